"""The content store: bytes in, id out; bytes back by id, checked.

Content up to 128 KiB is one record. Longer content is cut into chunks (``cutter``), each stored once under its BLAKE3
hash, and a recipe (cutter, size, list of chunks) stored under the content's own id. Chunks are compressed with zstd
level 1 where that saves at least a sixteenth. What is much like an earlier version is later kept as a delta
(``deltas``, ``shrinking``), which is found under the same id. Of contents that lie elsewhere the store keeps a note
(``outside``) and reads them there.

Nothing is durable before ``sync``: callers sync, then write their record.
"""

from __future__ import annotations

import hashlib
import os
import struct
import sys
import threading
from collections import deque
from collections.abc import Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextvars import copy_context
from dataclasses import dataclass
from pathlib import Path

import msgspec
import zstandard
from blake3 import blake3

from everyshelf.core.content.cutter import CUTTER, cut_window
from everyshelf.core.content.deltas import base_of, decode_delta
from everyshelf.core.content.ids import content_id
from everyshelf.core.content.outside import NothingOutside, Outside, OutsideNote, blocks_of, parse_note, range_of_block
from everyshelf.core.content.place import FolderPlace, Place
from everyshelf.core.content.records import CHUNK, DELTAS, OUTSIDE, RAW, RECIPE, UNPACKED, WHOLE, ZSTD, Record
from everyshelf.core.content.segments import Segments
from everyshelf.core.content.stores import current_store, in_store
from everyshelf.core.content.unpacking import Layout
from everyshelf.core.errors import BrokenError, MissingError
from everyshelf.decoding import from_json

WHOLE_BYTES = 128 * 1024
_WINDOW_BYTES = 2 * 1024 * 1024
_PACK_THREADS = 2
_IN_FLIGHT = 4  # windows being compressed while the next is read: bounds memory to a few windows
_FEW_CHUNKS = 8
_CHUNKS_AHEAD = 8  # about half a megabyte: handing over single chunks costs more than it gains
_CHUNK_ENTRY = struct.Struct("<32sI")
_local = threading.local()


@dataclass(frozen=True)
class ContentInfo:
    """Id (hex) and length of stored content."""

    id: str
    size: int


class _RecipeHead(msgspec.Struct):
    cutter: str
    size: int


@dataclass(frozen=True)
class _Recipe:
    size: int
    chunks: list[tuple[bytes, int]]


def _compressor() -> zstandard.ZstdCompressor:
    if not hasattr(_local, "compressor"):  # one per thread: the object must not be shared between calls
        _local.compressor = zstandard.ZstdCompressor(level=1, write_checksum=False)
    return _local.compressor  # type: ignore[no-any-return]


def _decompressor() -> zstandard.ZstdDecompressor:
    if not hasattr(_local, "decompressor"):
        _local.decompressor = zstandard.ZstdDecompressor()
    return _local.decompressor  # type: ignore[no-any-return]


def _pack(identity: bytes, kind: int, data: bytes | memoryview) -> Record:
    packed = _compressor().compress(data)
    if len(packed) < len(data) - len(data) // 16:
        return Record(identity, kind, ZSTD, len(data), packed)
    return Record(identity, kind, RAW, len(data), bytes(data))


def _pack_many(identities: list[bytes], chunks: list[memoryview]) -> list[Record]:
    """As ``_pack`` for chunks, in one call into C: handing the interpreter lock to and fro for each chunk costs more
    than it gains."""
    if not chunks:
        return []
    given: list[bytes | bytearray | memoryview] = list(chunks)
    packed = _compressor().multi_compress_to_buffer(given)
    return [
        Record(identity, CHUNK, ZSTD, len(chunk), packed[k].tobytes())
        if len(packed[k]) < len(chunk) - len(chunk) // 16
        else Record(identity, CHUNK, RAW, len(chunk), bytes(chunk))
        for k, (identity, chunk) in enumerate(zip(identities, chunks, strict=True))
    ]


def unpacked(record: Record) -> bytes:
    """Return the bytes of a record that is stored whole, unchecked."""
    if record.codec == RAW:
        return record.payload
    return _decompressor().decompress(record.payload, max_output_size=record.raw_bytes)


def hash_of(kind: int, data: bytes) -> bytes:
    """The id that these bytes have as a record of this kind (chunk or whole content)."""
    return blake3(data).digest() if kind == CHUNK else bytes.fromhex(content_id(data))


def _checked(data: bytes, identity: str) -> bytes:
    if content_id(data) != identity:
        raise BrokenError(f"content {identity[:12]} does not match its id", content=identity)
    return data


def _give_way(nice: int) -> None:
    """Let this thread give way to others; on Linux each thread has a priority of its own (setpriority(2))."""
    if nice and sys.platform.startswith("linux"):
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), nice)


class ContentStore:
    """Content by id over the segments of one place. ``nice``: how far its threads, which hash and pack, give way to all
    others (nice(2))."""

    def __init__(self, place: Place | Path, *, outside: Outside | None = None, nice: int = 0) -> None:
        place = FolderPlace(place) if isinstance(place, Path) else place
        self._outside = outside or NothingOutside()
        self.segments = Segments(place)
        self._nice = nice
        self._pool: ThreadPoolExecutor | None = None
        self._hashing: ThreadPoolExecutor | None = None

    # --- writing -----------------------------------------------------------

    def put(self, data: bytes) -> ContentInfo:
        """Store ``data`` (not yet durable, see ``sync``)."""
        if len(data) > WHOLE_BYTES:
            return self.put_stream([data])
        identity = content_id(data)
        if not self.segments.holds(bytes.fromhex(identity)):
            self.segments.append(_pack(bytes.fromhex(identity), WHOLE, data))
        return ContentInfo(identity, len(data))

    def put_outside(self, note: OutsideNote) -> ContentInfo:
        """Store a note for bytes that lie elsewhere (not yet durable, see ``sync``); the id it gives is the note's."""
        payload = msgspec.json.encode(note)
        identity = content_id(payload)
        self.segments.append(Record(bytes.fromhex(identity), OUTSIDE, RAW, len(payload), payload))
        return ContentInfo(identity, note.stamp.size)

    def put_stream(self, pieces: Iterable[bytes]) -> ContentInfo:
        """Store what ``pieces`` add up to, never holding more than a few windows of it."""
        writer = self.writer()
        for piece in pieces:
            writer.write(piece)
        return writer.finish()

    def writer(self) -> ContentWriter:
        """A writer for content that arrives in pieces."""
        return ContentWriter(self)

    def sync(self) -> None:
        """Return once everything put so far is durable."""
        self.segments.sync()

    def close(self) -> None:
        """Seal what this process wrote and stop its threads."""
        self.segments.close()
        for pool in (self._pool, self._hashing):
            if pool is not None:
                pool.shutdown()
        self._pool = self._hashing = None

    def submit(self, chunks: list[memoryview], into: str) -> Future[list[tuple[bytes, int, Record | None]]]:
        """Hash and compress chunks on the pool; one that is in that store already comes back without a record."""
        return self._threads().submit(self._pack_chunks, chunks, into)

    def _threads(self) -> ThreadPoolExecutor:
        if self._pool is None:
            self._pool = ThreadPoolExecutor(_PACK_THREADS, "every-shelf-pack", _give_way, (self._nice,))
        return self._pool

    def submit_hash(self, digest: hashlib._Hash, window: memoryview) -> Future[None]:
        """Feed ``window`` to ``digest`` after everything submitted before: one thread, so order is kept."""
        if self._hashing is None:
            self._hashing = ThreadPoolExecutor(1, "every-shelf-hash", _give_way, (self._nice,))
        return self._hashing.submit(digest.update, window)

    def _pack_chunks(self, chunks: list[memoryview], into: str) -> list[tuple[bytes, int, Record | None]]:
        identities = [blake3(chunk).digest() for chunk in chunks]
        fresh = [k for k, identity in enumerate(identities) if not self.segments.holds(identity, into)]
        records = dict(zip(fresh, _pack_many([identities[k] for k in fresh], [chunks[k] for k in fresh]), strict=True))
        return [(identity, len(chunks[k]), records.get(k)) for k, identity in enumerate(identities)]

    # --- reading -----------------------------------------------------------

    def has(self, identity: str) -> bool:
        """True if the content is stored here."""
        try:
            return self.segments.find(bytes.fromhex(identity), refresh=True) is not None
        except ValueError:  # what a damaged record may name
            return False

    def size(self, identity: str) -> int:
        """Length of the content in bytes; raises ``MissingError``."""
        record = self._record(identity)
        if record.kind == OUTSIDE:
            return parse_note(record.payload).stamp.size
        if record.kind == UNPACKED:
            return Layout.decoded(self.unpack(record)).size
        return record.raw_bytes if record.kind == WHOLE else _parse_recipe(self.unpack(record)).size

    def lies_outside(self, identity: str) -> bool:
        """True if the store has only a note of the content; whoever reads on its own account leaves it alone."""
        try:
            where = self.segments.find(bytes.fromhex(identity), refresh=True)
        except ValueError:
            return False
        return where is not None and where.kind == OUTSIDE

    def outside_note(self, identity: str) -> OutsideNote | None:
        """The note of a content that lies elsewhere, None of one that is stored; raises ``MissingError``."""
        record = self._record(identity)
        return parse_note(record.payload) if record.kind == OUTSIDE else None

    def check_outside(self, note: OutsideNote) -> None:
        """Raise ``ChangedError`` or ``OutOfReachError`` unless the bytes are what the note says."""
        self._outside.check(note)

    def local_file(self, note: OutsideNote) -> Path | None:
        """The file of this machine that holds the bytes, if one does."""
        return self._outside.local(note)

    def read(self, identity: str) -> bytes:
        """The whole content, each piece checked; raises ``MissingError`` or ``BrokenError``."""
        return self._whole(self._record(identity), identity)

    def _whole(self, record: Record, identity: str) -> bytes:
        if record.kind != WHOLE:
            return b"".join(self._pieces_of(record, identity, 0, None))
        return _checked(self.unpack(record), identity)

    def read_stored(self, identity: str) -> bytes | None:
        """As ``read``; None for a content that lies elsewhere."""
        record = self._record(identity)
        return None if record.kind == OUTSIDE else self._whole(record, identity)

    def iter_range(self, identity: str, start: int = 0, stop: int | None = None) -> Iterator[bytes]:
        """Pieces of content[start:stop]; each is checked against its own hash, and the recipe that lists them by its
        record's check. ``verify`` hashes the content as a whole, which takes three times as long."""
        yield from self._pieces_of(self._record(identity), identity, start, stop)

    def _pieces_of(self, record: Record, identity: str, start: int, stop: int | None) -> Iterator[bytes]:
        if record.kind == WHOLE:
            yield _checked(self.unpack(record), identity)[start:stop]
            return
        if record.kind == OUTSIDE:
            note = parse_note(record.payload)
            size = note.stamp.size
            yield from self._outside.read(note, min(start, size), size if stop is None else min(stop, size))
            return
        if record.kind == UNPACKED:
            layout = Layout.decoded(self.unpack(record))
            stop = layout.size if stop is None else min(stop, layout.size)
            yield from layout.range(min(start, stop), stop, lambda part: self._chunk(part, identity))
            return
        recipe = _parse_recipe(self.unpack(record))
        stop = recipe.size if stop is None else min(stop, recipe.size)
        at = 0
        wanted = []
        for chunk, length in recipe.chunks:
            if at < stop and at + length > start:
                wanted.append((chunk, max(0, start - at), stop - at))
            at += length
        yield from self._read_ahead(identity, wanted)

    def _read_ahead(self, identity: str, wanted: list[tuple[bytes, int, int]]) -> Iterator[bytes]:
        """The parts of these chunks in order; the next few are unpacked and checked on the pool meanwhile."""
        if len(wanted) <= _FEW_CHUNKS:
            for chunk, start, stop in wanted:
                yield self._chunk(chunk, identity)[start:stop]
            return
        flying: deque[Future[list[bytes]]] = deque()
        try:
            for at in range(0, len(wanted), _CHUNKS_AHEAD):
                batch = wanted[at : at + _CHUNKS_AHEAD]
                flying.append(self._threads().submit(copy_context().run, self._parts, identity, batch))
                if len(flying) > _PACK_THREADS:
                    yield from flying.popleft().result()
            while flying:
                yield from flying.popleft().result()
        finally:
            for one in flying:
                one.cancel()

    def _parts(self, identity: str, wanted: list[tuple[bytes, int, int]]) -> list[bytes]:
        return [self._chunk(chunk, identity)[start:stop] for chunk, start, stop in wanted]

    def pieces(self, identity: str) -> list[tuple[bytes, int]]:
        """Id and length of each piece the content is stored in, in order; read one with ``read_piece``."""
        record = self._record(identity)
        if record.kind == WHOLE:
            return [(record.id, record.raw_bytes)]
        if record.kind == OUTSIDE:
            return blocks_of(parse_note(record.payload).stamp.size)
        if record.kind == UNPACKED:
            return blocks_of(Layout.decoded(self.unpack(record)).size)
        return _parse_recipe(self.unpack(record)).chunks

    def stored_pieces(self, identity: bytes) -> set[bytes]:
        """Ids of all that a content is made of, in every form in which it is stored. Raises ``BrokenError``."""
        return {piece for record in self.segments.fetch_forms(identity) for piece in self.pieces_of(record)}

    def layout(self, identity: str) -> Layout | None:
        """Of which parts a content is kept unpacked; None for one that is not."""
        record = self._record(identity)
        return Layout.decoded(self.unpack(record)) if record.kind == UNPACKED else None

    def reads_back_unpacked(self, record: Record) -> bool:
        """Whether a record of a content that is kept unpacked gives its bytes, all of them read."""
        digest = hashlib.sha256()
        try:
            layout = Layout.decoded(self.unpack(record))
            for piece in layout.range(0, layout.size, lambda part: self._chunk(part, record.id.hex())):
                digest.update(piece)
        except (BrokenError, MissingError, zstandard.ZstdError):
            return False
        return digest.digest() == record.id

    def read_piece(self, identity: str, piece: bytes) -> bytes:
        """One piece of a content, checked."""
        if piece.hex() == identity:
            return b"".join(self.iter_range(identity))
        record = self._record(identity)
        if record.kind == OUTSIDE:
            note = parse_note(record.payload)
            return b"".join(self._outside.read(note, *range_of_block(piece, note.stamp.size)))
        if record.kind == UNPACKED:
            size = Layout.decoded(self.unpack(record)).size
            return b"".join(self._pieces_of(record, identity, *range_of_block(piece, size)))
        return self._chunk(piece, identity)

    def _record(self, identity: str) -> Record:
        try:
            wanted = bytes.fromhex(identity)
        except ValueError as error:
            raise BrokenError(f"{identity[:12]!r} is not a content id: the record that names it is damaged") from error
        record = self.segments.fetch(wanted)
        if record is None:
            raise MissingError(f"content {identity[:12]} is not stored here", code="content.missing", content=identity)
        return record

    def read_part(self, part: bytes, identity: str) -> bytes:
        """One part of a content that is kept unpacked, checked."""
        return self._chunk(part, identity)

    def pieces_of(self, record: Record) -> list[bytes]:
        """Ids of what the record of a content names as its pieces: none of one that is stored in one record."""
        if record.kind == RECIPE:
            return [chunk for chunk, _ in _parse_recipe(self.unpack(record)).chunks]
        if record.kind == UNPACKED:
            return [part for _, part, _, _ in Layout.decoded(self.unpack(record)).entries]
        return []

    def fetch_piece(self, piece: bytes, *, complete: bool = False) -> Record:
        """The record of a piece of some content; ``complete``: not as a delta. Raises ``BrokenError``."""
        record = self.segments.fetch(piece, complete=complete)
        if record is None:
            raise BrokenError(f"piece {piece.hex()[:12]} of a content is not stored here")
        return record

    def unpack(self, record: Record) -> bytes:
        """The bytes of a record, unchecked; those of a delta by the one piece it needs."""
        if record.codec not in DELTAS:
            return unpacked(record)
        base = self.segments.fetch(base_of(record), complete=True)
        if base is None:
            raise BrokenError(f"piece {record.id.hex()[:12]} lacks the piece it is kept against")
        return decode_delta(record, unpacked(base))

    def _chunk(self, chunk: bytes, identity: str) -> bytes:
        record = self.segments.fetch(chunk)
        if record is None:
            raise BrokenError(f"content {identity[:12]} lacks one of its chunks", content=identity)
        data = self.unpack(record)
        if blake3(data).digest() != chunk:
            raise BrokenError(f"a chunk of content {identity[:12]} does not match its hash", content=identity)
        return data

    def verify(self, identity: str) -> str | None:
        """None if the content reads back to its id, else one line that says what is wrong. Of one that lies elsewhere,
        only its note is read; ``check_outside`` asks the place."""
        digest = hashlib.sha256()
        try:
            record = self._record(identity)
            if record.kind == OUTSIDE:
                return self._verify_note(record)
            for piece in self.iter_range(identity):
                digest.update(piece)
        except (BrokenError, MissingError, zstandard.ZstdError) as error:
            return str(error)
        return None if digest.hexdigest() == identity else f"content {identity[:12]} does not match its id"

    @staticmethod
    def _verify_note(record: Record) -> str | None:
        same = content_id(record.payload) == record.id.hex()
        return None if same else f"content {record.id.hex()[:12]} does not match its id"


class ContentWriter:
    """Takes content in pieces; ``finish`` gives its id. Dropping it half-way leaves nothing that anything refers to."""

    def __init__(self, store: ContentStore) -> None:
        self._store = store
        self._into = current_store()
        self._digest = hashlib.sha256()
        self._pieces: list[bytes] = []
        self._held = 0
        self._chunks: list[tuple[bytes, int]] = []
        self._flying: deque[Future[list[tuple[bytes, int, Record | None]]]] = deque()
        self._hashed: deque[Future[None]] = deque()
        self._new_bytes_from = 0  # where, in the next window, bytes start that were not hashed yet
        self.size = 0

    def write(self, piece: bytes) -> None:
        """Take the next piece, of any length; the caller must not change it afterwards."""
        view = memoryview(piece)
        for start in range(0, len(view), _WINDOW_BYTES):
            part = view[start : start + _WINDOW_BYTES]
            self._pieces.append(part)  # type: ignore[arg-type]
            self._held += len(part)
            self.size += len(part)
            if self._held >= _WINDOW_BYTES:
                self._cut(final=False)

    def _cut(self, *, final: bool) -> None:
        window = memoryview(b"".join(self._pieces))
        while len(self._flying) >= _IN_FLIGHT:
            self._land()
        self._hashed.append(self._store.submit_hash(self._digest, window[self._new_bytes_from :]))
        at = 0
        chunks = []
        for length in cut_window(window, final=final):
            chunks.append(window[at : at + length])
            at += length
        self._flying.append(self._store.submit(chunks, self._into))
        rest = bytes(window[at:])
        self._pieces, self._held, self._new_bytes_from = [rest], len(rest), len(rest)

    def _land(self) -> None:
        self._hashed.popleft().result()
        for identity, length, record in self._flying.popleft().result():
            if record is not None:
                self._store.segments.append(record, self._into)
            self._chunks.append((identity, length))

    def finish(self) -> ContentInfo:
        """Store the rest and return the content's id and size (not yet durable, see ``ContentStore.sync``)."""
        if not self._chunks and not self._flying and self.size <= WHOLE_BYTES:
            with in_store(self._into):
                return self._store.put(b"".join(self._pieces))
        self._cut(final=True)
        while self._flying:
            self._land()
        identity = self._digest.digest()
        if not self._store.segments.holds(identity, self._into):
            recipe = _pack(identity, RECIPE, _encode_recipe(self.size, self._chunks))
            self._store.segments.append(recipe, self._into)
        return ContentInfo(identity.hex(), self.size)


def _encode_recipe(size: int, chunks: list[tuple[bytes, int]]) -> bytes:
    head = msgspec.json.encode(_RecipeHead(CUTTER.name, size))
    return head + b"\n" + b"".join(_CHUNK_ENTRY.pack(*chunk) for chunk in chunks)


def _parse_recipe(data: bytes) -> _Recipe:
    head, _, body = data.partition(b"\n")
    return _Recipe(from_json(head, _RecipeHead).size, list(_CHUNK_ENTRY.iter_unpack(body)))
