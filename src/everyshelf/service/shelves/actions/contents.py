"""Contents going in and out, always scoped to one shelf."""

from __future__ import annotations

import os
import struct
import tempfile
import zipfile
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import IO

from everyshelf.core.content.ids import is_content_id
from everyshelf.core.content.outside import OutsideNote
from everyshelf.core.content.store import ContentInfo
from everyshelf.core.errors import InvalidError, LimitError, MissingError, RefusedError
from everyshelf.core.history.trees import Entry
from everyshelf.service.base.acts import aside
from everyshelf.service.base.config import get_config
from everyshelf.service.base.context import get_store, get_trees
from everyshelf.service.base.lanes import lane
from everyshelf.service.base.room import require_room
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.models import Shelf, ShelfContent

MOST_IN_MANY = 4 * 1024 * 1024  # bytes of one content among several
_MOST_AT_ONCE = 2_000
_MOST_OUT_BYTES = 16 * 1024 * 1024
_LARGE_BYTES = 8 * 1024 * 1024
_LONGEST_WAIT_SECONDS = 300.0
_LENGTH = struct.Struct(">Q")


@contextmanager
def turn_to_take_in(caller: Caller, size: int, has_left: Callable[[], bool]) -> Iterator[None]:
    """Wait until a large body may be packed: packing one keeps two processors busy, and many bodies of one person are
    to leave something for others. Raises ``BusyError`` if that takes too long or too many wait, ``RefusedError``
    (content.left) if the client leaves."""
    if size < _LARGE_BYTES:
        yield
        return
    at_once = max(1, (os.cpu_count() or 1) // 2)

    def tick() -> None:
        if has_left():
            raise RefusedError("the client has left; nothing was taken", code="content.left")

    most, name = 2 * at_once, caller.person.username
    with lane("take in", name, most=most, each=at_once, seconds=_LONGEST_WAIT_SECONDS, tick=tick):
        yield


def take_in(shelf: Shelf, pieces: Iterable[bytes], expected: int | None) -> ContentInfo:
    """Store an upload and note that the shelf holds it; the id is computed here, never believed.

    ``expected`` is the announced length: an upload broken off looks like a clean end, so both must agree.
    """
    limit = get_config().max_upload_bytes
    if expected is not None and expected > limit:
        raise _too_large(limit)
    require_room()
    store = get_store()
    writer = store.writer()
    for piece in pieces:
        writer.write(piece)
        if writer.size > limit:
            raise _too_large(limit)
    if expected is not None and writer.size != expected:
        raise InvalidError(
            f"the upload broke off after {writer.size} of {expected} bytes",
            code="content.incomplete",
            hint="Send it again; nothing was kept of it.",
        )
    info = writer.finish()
    store.sync()
    with aside():
        hold(shelf, {info.id: info.size})
    return info


def take_in_many(shelf: Shelf, pieces: Iterable[bytes], expected: int) -> list[ContentInfo]:
    """Store several contents of one body, made durable once. Each is preceded by its length, 8 bytes, big-endian."""
    require_room()
    store, body = get_store(), _Body(pieces)
    found: list[ContentInfo] = []
    while (head := body.take(_LENGTH.size)) and len(found) < _MOST_AT_ONCE:
        size = _LENGTH.unpack(head)[0] if len(head) == _LENGTH.size else -1
        content = body.take(size) if 0 <= size <= MOST_IN_MANY else b""
        if size < 0 or len(content) != size:
            raise InvalidError(
                f"the upload of several contents is broken after {body.taken} of {expected} bytes",
                code="content.incomplete",
                hint="Write the length of each content, 8 bytes, big-endian, before it; one of over "
                f"{MOST_IN_MANY >> 20} MB is sent by itself. Nothing was kept.",
            )
        found.append(store.put(content))
    if body.taken != expected:
        raise InvalidError(
            f"more than {_MOST_AT_ONCE} contents at once",
            code="content.too_many",
            hint="Send the others in a next call.",
        )
    store.sync()
    with aside():
        hold(shelf, {info.id: info.size for info in found})
    return found


def hold(shelf: Shelf, sizes: Mapping[str, int]) -> None:
    """Note that the shelf holds contents (id -> size) that are stored."""
    rows = [ShelfContent(shelf=shelf, content=content, size=size) for content, size in sizes.items()]
    ShelfContent.objects.bulk_create(rows, batch_size=500, ignore_conflicts=True)
    for start in range(0, len(rows), 500):
        known = ShelfContent.objects.filter(shelf=shelf, content__in=[row.content for row in rows[start : start + 500]])
        unreached = known.exclude(unreached_since=None)
        if unreached.exists():  # hardly ever: a look costs no turn at writing
            unreached.update(unreached_since=None)


def read_many(shelf: Shelf, identities: list[str]) -> bytes:
    """Several small contents in one answer, in order: each after its length, 8 bytes, big-endian."""
    sizes = held_of(shelf, identities)
    for identity in identities:
        if identity not in sizes:
            raise MissingError(f"the shelf holds no content {identity[:12]!r}", code="content.missing")
    if len(identities) > _MOST_AT_ONCE or sum(sizes[i] for i in identities) > _MOST_OUT_BYTES:
        raise InvalidError(
            f"more than {_MOST_AT_ONCE} contents, or {_MOST_OUT_BYTES >> 20} MB of them, at once",
            code="content.too_many",
            hint="Ask for fewer in each call; for a large one by itself.",
        )
    parts = []
    for identity in identities:
        content = get_store().read(identity)
        parts += [_LENGTH.pack(len(content)), content]
    return b"".join(parts)


class _Body:
    """A body in pieces, taken in the lengths that are asked for."""

    def __init__(self, pieces: Iterable[bytes]) -> None:
        self._pieces, self._held, self.taken = iter(pieces), bytearray(), 0

    def take(self, size: int) -> bytes:
        """So many bytes, fewer at the end."""
        while len(self._held) < size and (piece := next(self._pieces, b"")):
            self._held += piece
        wanted = bytes(self._held[:size])
        del self._held[:size]
        self.taken += len(wanted)
        return wanted


def _too_large(limit: int) -> LimitError:
    return LimitError(
        f"the content is larger than the {limit} bytes this service takes",
        code="content.too_large",
        hint="An administrator can raise EVERYSHELF_MAX_UPLOAD.",
    )


def missing_of(shelf: Shelf, identities: list[str]) -> list[str]:
    """Those of the ids that the shelf does not hold."""
    for identity in identities:
        if not is_content_id(identity):
            raise InvalidError(f"{identity[:80]!r} is not a content id", code="content.id")
    held = held_of(shelf, identities)
    return [i for i in dict.fromkeys(identities) if i not in held]


def held_of(shelf: Shelf, identities: Iterable[str]) -> dict[str, int]:
    """Id -> size of those contents that the shelf holds. Who asks may go on to use them: they are held for as long as
    ones that were just sent."""
    wanted, found = list(dict.fromkeys(identities)), dict[str, int]()
    for start in range(0, len(wanted), 500):
        rows = ShelfContent.objects.filter(shelf=shelf, content__in=wanted[start : start + 500])
        seen = list(rows.values_list("content", "size", "unreached_since"))
        if any(since for _, _, since in seen):
            with aside():
                rows.exclude(unreached_since=None).update(unreached_since=None)
            seen = list(rows.values_list("content", "size", "unreached_since"))
        found.update((content, size) for content, size, _ in seen)
    return found


def get_size(shelf: Shelf, identity: str) -> int:
    """Size of a content of the shelf; raises ``MissingError``."""
    size = held_of(shelf, [identity]).get(identity) if is_content_id(identity) else None
    if size is None:
        raise MissingError(f"the shelf holds no content {identity[:12]!r}", code="content.missing")
    return size


@contextmanager
def as_file(identity: str) -> Iterator[Path]:
    """A temporary file with the content, for a reading process; of data in place on this machine the file itself, seen
    to be the same before and behind."""
    found = _local_file(identity)
    if found is not None:
        note, local = found
        yield local
        get_store().check_outside(note)
        return
    with tempfile.NamedTemporaryFile(dir=get_config().scratch, prefix="read-") as file:
        _copy(identity, file)
        file.flush()
        yield Path(file.name)


@contextmanager
def as_given(entry: Entry) -> Iterator[Path]:
    """A temporary file with an artifact's content; for a folder kept whole, a temporary folder with all its files."""
    if entry.type != "whole":
        with as_file(entry.id) as path:
            yield path
        return
    with tempfile.TemporaryDirectory(dir=get_config().scratch, prefix="read-") as folder:
        for inside, inner in get_trees().files(entry.id):
            target = Path(folder, inside)
            target.parent.mkdir(parents=True, exist_ok=True)
            with target.open("wb") as file:
                _copy(inner.id, file)
        yield Path(folder)


def _copy(identity: str, file: IO[bytes]) -> None:
    store = get_store()
    if store.lies_outside(identity):
        require_room(store.size(identity))
    file.writelines(store.iter_range(identity))


def _local_file(identity: str) -> tuple[OutsideNote, Path] | None:
    """The file of this machine in which a content in place lies, and its note. Reading processes write to no file that
    they are given, and nothing beside it."""
    store = get_store()
    note = store.outside_note(identity) if store.lies_outside(identity) else None
    local = store.local_file(note) if note is not None else None
    if note is None or local is None:
        return None
    store.check_outside(note)
    return note, local


def zip_of(entry: Entry) -> IO[bytes]:
    """A folder kept whole as a zip, open for reading; equal folders give equal zips."""
    file = tempfile.TemporaryFile(dir=get_config().scratch)  # noqa: SIM115 - whoever sends it closes it
    with zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as packed:
        for path, inner in get_trees().files(entry.id):
            member = zipfile.ZipInfo(path)
            member.compress_type = zipfile.ZIP_DEFLATED
            with packed.open(member, "w", force_zip64=True) as target:
                for piece in get_store().iter_range(inner.id):
                    target.write(piece)
    file.seek(0)
    return file
