"""Keep versions of contents with packed parts unpacked, and what is much like the version before as deltas.

A version and the one before it are taken apart (``unpacking``) where that saves something. The form as they came stays
until ``compacting`` has read the other one back, from its first byte to its last.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Iterator

import zstandard
from blake3 import blake3

from everyshelf.core.content.deltas import (
    CAREFUL,
    QUICK,
    Likeness,
    base_of,
    encode_delta,
    encode_numbers,
    encode_steps,
    marks_of,
)
from everyshelf.core.content.new_segments import NewSegments
from everyshelf.core.content.records import BASE_BYTES, CHUNK, DELTAS, RAW, UNPACKED, ZSTD, Record
from everyshelf.core.content.store import ContentStore
from everyshelf.core.content.unpacking import AS_IT_IS, NUMBERS, STEPS, Layout, Part, is_packed, take_apart

_SMALLEST, _MOST = 8 * 1024, 16 * 1024 * 1024  # bytes of a content: a megabyte takes two seconds, and five in memory
_LEVEL = 19  # of parts: what a part takes is kept once, however many versions follow
_WORTH = 0.9  # of both versions as they came
_DELTA_WORTH = 0.5  # as in ``shrinking``
_MOST_HELD = 64 * 1024 * 1024  # bytes of parts that this run wrote whole and that lie in no segment yet

_ENCODE = {AS_IT_IS: encode_delta, STEPS: encode_steps, NUMBERS: encode_numbers}

Progress = Callable[[int, int], None]
_Apart = list[tuple[bytes, Part]]  # parts with their ids


class UnpackedVersions:
    """Takes versions apart that follow one another. ``saved``: bytes so far."""

    def __init__(self, store: ContentStore, into: NewSegments) -> None:
        self._store, self._into = store, into
        self._apart: OrderedDict[str, _Apart | None] = OrderedDict()
        self._layouts: set[str] = set()  # contents that this run took apart
        self._bases: dict[bytes, bytes] = {}  # parts that are deltas since this run began
        self._held: OrderedDict[bytes, bytes] = OrderedDict()  # parts that it wrote whole
        self._held_bytes = 0
        self.saved = 0

    def shrink(self, identity: str, older: str, progress: Progress) -> int | None:
        """Keep a content unpacked, and its parts as deltas of those of ``older``; gives how many are. None where that
        cannot be or is not worth it. Raises ``MissingError`` and ``BrokenError`` as reading does."""
        if not all(_SMALLEST <= self._store.size(one) <= _MOST for one in (identity, older)):
            return None
        if self._is_unpacked(identity):
            return 0
        progress(0, 3)
        before = self._taken_apart(older)
        progress(1, 3)
        after = self._taken_apart(identity) if before is not None else None
        progress(2, 3)
        if before is None or after is None:
            return None
        records: list[Record] = []
        came = self._store.size(identity)
        if not self._is_unpacked(older):
            came += self._store.size(older)
            records += [_whole(part, one.data) for part, one in before if not self._is_known(part)]
            records.append(_layout(older, self._store.size(older), before))
        fresh = self._deltas(before, after)
        records += [*fresh, _layout(identity, self._store.size(identity), after)]
        taken = sum(len(record.payload) for record in records)
        if taken > _WORTH * came:
            return None
        self._write(records, {part: one.data for part, one in [*before, *after]})
        self._layouts |= {identity, older}
        self.saved += came - taken
        return sum(record.codec in DELTAS for record in fresh)

    def _is_unpacked(self, identity: str) -> bool:
        return identity in self._layouts or self._store.layout(identity) is not None

    def _taken_apart(self, identity: str) -> _Apart | None:
        """The parts of a content; of the last few without working them out again."""
        if identity not in self._apart:
            self._apart[identity] = self._take_apart(identity)
            if len(self._apart) > 2:
                self._apart.popitem(last=False)
        self._apart.move_to_end(identity)
        return self._apart[identity]

    def _take_apart(self, identity: str) -> _Apart | None:
        layout = self._store.layout(identity)
        if layout is not None:
            return [
                (part, Part(kind, self._store.read_part(part, identity), bits))
                for kind, part, _, bits in layout.entries
            ]
        if not is_packed(b"".join(self._store.iter_range(identity, 0, 4))):
            return None
        parts = take_apart(self._store.read(identity))
        return [(blake3(one.data).digest(), one) for one in parts] if parts is not None else None

    def _is_known(self, part: bytes) -> bool:
        return part in self._held or part in self._bases or self._store.segments.holds(part, self._into.store)

    def _deltas(self, before: _Apart, after: _Apart) -> list[Record]:
        """Records of the parts that the version before has not: as deltas where it has something much alike, else whole
        unless they are stored, as pieces of the content as it came may be."""
        known, likeness = dict(before), Likeness()
        for part, one in known.items():
            likeness.add(part, marks_of(one.data))
        in_place = dict(_in_place(before, after))
        records: dict[bytes, Record] = {}
        for part, one in after:
            if part in known or part in records or self._whole_of(part) != part:
                continue
            delta = self._delta(part, one, known, (likeness.most_like(one.data), in_place.get(part)))
            if delta is not None:
                records[part] = delta
            elif not self._is_known(part):
                records[part] = _whole(part, one.data)
        return list(records.values())

    def _delta(
        self, part: bytes, one: Part, known: dict[bytes, Part], likes: tuple[bytes | None, bytes | None]
    ) -> Record | None:
        """The part as a delta of the first of these that is worth it; None for none."""
        enough = _DELTA_WORTH * len(_packed(part, CHUNK, one.data, QUICK).payload) - BASE_BYTES
        for like in dict.fromkeys(likes):
            if like is None or known[like].kind != one.kind:
                continue
            base = self._whole_of(like)
            if base == part:  # it is as it was once: what came between is kept against it, and it stays whole
                return None
            data = known[like].data if base == like else self._bytes_of(base)
            if data is not None:
                record = Record(part, CHUNK, RAW, len(one.data), b"")
                delta = _ENCODE[one.kind](record, one.data, base, data, CAREFUL)
                if len(delta.payload) <= enough:
                    return delta
        return None

    def _whole_of(self, part: bytes) -> bytes:
        """The part itself, or the one it is kept against."""
        if part in self._bases:
            return self._bases[part]
        if part in self._held or self._store.segments.find(part) is None:
            return part
        record = self._store.fetch_piece(part)
        return base_of(record) if record.codec in DELTAS else part

    def _bytes_of(self, base: bytes) -> bytes | None:
        """The bytes of a part that is stored whole, or was written whole by this run lately."""
        if base in self._held:
            return self._held[base]
        if self._store.segments.find(base, complete=True) is None:
            return None
        return self._store.unpack(self._store.fetch_piece(base, complete=True))

    def _write(self, records: list[Record], data: dict[bytes, bytes]) -> None:
        for record in records:
            self._into.append(record)
            if record.kind != CHUNK:
                continue
            if record.codec in DELTAS:
                self._bases[record.id] = base_of(record)
                continue
            self._held[record.id] = data[record.id]
            self._held_bytes += len(data[record.id])
            while self._held_bytes > _MOST_HELD:
                self._held_bytes -= len(self._held.popitem(last=False)[1])


def _in_place(before: _Apart, after: _Apart) -> Iterator[tuple[bytes, bytes]]:
    """For each page of numbers the one that lay there: renumbered, it may share not a byte with it."""
    old, new = ([part for part, one in apart if one.kind == NUMBERS] for apart in (before, after))
    if old:
        for place, part in enumerate(new):
            yield part, old[min(place, len(old) - 1)]


def _whole(part: bytes, data: bytes) -> Record:
    return _packed(part, CHUNK, data)


def _layout(identity: str, size: int, apart: _Apart) -> Record:
    layout = Layout(size, [(one.kind, part, len(one.data), one.bits) for part, one in apart])
    return _packed(bytes.fromhex(identity), UNPACKED, layout.encoded())


def _packed(identity: bytes, kind: int, data: bytes, level: int = _LEVEL) -> Record:
    packed = zstandard.ZstdCompressor(level=level, write_checksum=False).compress(data)
    if len(packed) < len(data):
        return Record(identity, kind, ZSTD, len(data), packed)
    return Record(identity, kind, RAW, len(data), data)
