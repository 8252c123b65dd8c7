"""What lies in one segment: its records, its torn end, its damaged ranges.

What a scan finds is one of three things:

1. a record whose checks agree;
2. a *torn* end: a record that was being written when the process died, or the zero bytes that a file system leaves
   after a power failure. Nothing that was acknowledged lies there, because ``sync`` comes before every acknowledgement;
3. a *damaged range*: anything else. The scan goes on at the next good record. The range stays on disk as it is and is
   kept by name in the segment's directory.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from dataclasses import dataclass
from functools import partial

from everyshelf.core.content.directory import Directory
from everyshelf.core.content.place import Place, Readable
from everyshelf.core.content.records import DELTAS, HEAD_BYTES, MARK, Damage, Location, Record, decode, stored_length
from everyshelf.core.content.stores import SEGMENT
from everyshelf.core.errors import StorageError

DIRECTORY = ".dir"
_SCAN_BYTES = 4 * 1024 * 1024


@dataclass(frozen=True)
class _Torn:
    """The end of a segment, from ``start``, that nothing acknowledged needs."""

    start: int


class _Scan:
    """Reads a segment from ``start`` record by record, past what is damaged."""

    def __init__(self, place: Readable, name: str, start: int) -> None:
        self._place = place
        self._name = name
        self._buffer = b""
        self._buffer_at = start  # where in the segment the buffer begins
        self._used = 0  # how much of the buffer was dealt with
        self._ended = False

    def __iter__(self) -> Iterator[tuple[int, Record] | Damage | _Torn]:
        while self._fill(HEAD_BYTES):
            start = self._at
            stored = stored_length(self._rest, self._name)
            complete = stored is not None and self._fill(HEAD_BYTES + stored)
            decoded = decode(self._rest, self._name) if complete else None
            if decoded is not None:
                yield start, decoded[0]
                self._used += decoded[1]
            elif stored is not None and not complete:
                yield _Torn(start)
                return
            elif stored is not None:
                self._used += HEAD_BYTES + stored  # its length can be trusted, its payload is damaged
                yield Damage(self._name, start, self._at)
            elif self._search():
                yield Damage(self._name, start, self._at)
            else:
                yield self._end_from(start)
                return
        if len(self._rest):
            yield _Torn(self._at)  # less than a head

    @property
    def _at(self) -> int:
        return self._buffer_at + self._used

    @property
    def _rest(self) -> memoryview:
        return memoryview(self._buffer)[self._used :]

    def _fill(self, size: int) -> bool:
        """Read until ``size`` bytes are at hand; False if the file ends before."""
        while len(self._rest) < size and not self._ended:
            have = self._buffer_at + len(self._buffer)
            more = self._place.read(self._name, have, max(_SCAN_BYTES, size))
            self._ended = not more
            self._buffer, self._buffer_at, self._used = bytes(self._rest) + more, self._at, 0
        return len(self._rest) >= size

    def _search(self) -> bool:
        """Go on to the next head whose check agrees; False if there is none to the end of the file."""
        self._used += 1
        while self._fill(HEAD_BYTES):
            mark = self._buffer.find(MARK, self._used)
            if mark < 0:
                self._used = len(self._buffer) - len(MARK) + 1
                continue
            self._used = mark
            if self._fill(HEAD_BYTES) and stored_length(self._rest, self._name) is not None:
                return True
            self._used += 1
        return False

    def _end_from(self, start: int) -> Damage | _Torn:
        """Bytes to the end of the file without any record: zeros were never written, everything else is damage."""
        at = start
        while piece := self._place.read(self._name, at, _SCAN_BYTES):
            at += len(piece)
            if piece.strip(b"\0"):
                return Damage(self._name, start, self._place.size(self._name))
        return _Torn(start)


def iter_records(place: Readable, name: str, start: int = 0) -> Iterator[tuple[int, Record]]:
    """Offset and record of each good record from ``start``, past damaged ones."""
    for seen in _Scan(place, name, start):
        if isinstance(seen, tuple):
            yield seen


class SegmentContents:
    """The records seen so far in a segment without a directory, in memory."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.locations: dict[bytes, Location] = {}
        self.damage: list[Damage] = []
        self.end = 0  # behind the last record
        self.torn_at: int | None = None

    def note(self, offset: int, record: Record) -> None:
        """Take notice of the record at ``offset``. Of a record and its delta the whole one is known."""
        where = Location(self.name, offset, record.kind, record.raw_bytes, record.codec in DELTAS)
        known = self.locations.get(record.id)
        if known is None or known.delta:
            self.locations[record.id] = where
        self.end = offset + HEAD_BYTES + len(record.payload)

    def scan(self, place: Readable, *, final: bool) -> None:
        """Take notice of what was added. While its owner still writes (not ``final``) nothing is said of its end: it
        may be a record on its way."""
        waiting: list[Damage] = []
        self.torn_at = None
        for seen in _Scan(place, self.name, self.end):
            if isinstance(seen, Damage):
                waiting.append(seen)
            elif isinstance(seen, _Torn):
                self.torn_at = seen.start
            else:
                self.damage += waiting
                waiting = []
                self.note(*seen)
        if final:
            self.damage += waiting


def write_directory(place: Place, seen: SegmentContents) -> Directory:
    """Write the directory of a segment that nothing is added to any more."""
    directory = Directory.build(seen.name, seen.locations, seen.damage)
    # On a full disk it stays in memory; the next opening makes it again.
    with contextlib.suppress(StorageError):
        place.write_whole(directory_name(seen.name), directory.encoded(place.size(seen.name)))
        directory.is_stored(partial(place.read, directory_name(seen.name)))
    return directory


def read_directory(place: Readable, name: str) -> Directory | None:
    """The stored directory of a segment, all of it in memory; None if it is not there, or not whole. Raises
    ``FileNotFoundError`` if the segment is not there."""
    size, stored, data = place.size(name), directory_name(name), b""
    with contextlib.suppress(FileNotFoundError):
        data = place.read(stored, 0, place.size(stored))
    directory = Directory.parse(name, data, size)
    if directory is not None:
        directory.is_stored(partial(place.read, stored))
    return directory


def directory_name(segment: str) -> str:
    """Name of the file with the directory of a segment."""
    return segment.removesuffix(SEGMENT) + DIRECTORY


def segment_names(place: Readable) -> list[str]:
    """Names of all segments of a place."""
    return [name for name in place.names() if name.endswith(SEGMENT)]


def whole_records(place: Readable, name: str) -> tuple[int, list[Damage]]:
    """How many bytes of a segment are whole records or damage between them, while its owner may be adding to it; and
    that damage."""
    seen = SegmentContents(name)
    seen.scan(place, final=False)
    return seen.end, seen.damage
