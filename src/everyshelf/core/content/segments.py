"""Segments: append-only files of checked records, each with a sorted directory that can be rebuilt by scanning.

What a scan finds is one of three things:

1. a record whose checks agree;
2. a *torn* end: a record that was being written when the process died, or the zero bytes that a file system leaves
   after a power failure. Nothing that was acknowledged lies there, because ``sync`` comes before every acknowledgement;
3. a *damaged range*: anything else. The scan goes on at the next good record. The range stays on disk as it is and is
   kept by name in the segment's directory.

Every process appends to a segment of its own; a segment that no process owns is sealed: its torn end is cut off and a
directory is written beside it.
"""

from __future__ import annotations

import contextlib
import threading
import uuid
from collections.abc import Iterator
from dataclasses import dataclass

from everyshelf.core.content.directory import Directories, Directory
from everyshelf.core.content.place import Appender, Place
from everyshelf.core.content.records import HEAD_BYTES, MARK, Damage, Location, Record, decode, encode, stored_length
from everyshelf.core.errors import BrokenError, StorageError

SEGMENT_BYTES = 256 * 1024 * 1024
_SCAN_BYTES = 4 * 1024 * 1024


@dataclass(frozen=True)
class _Torn:
    """The end of a segment, from ``start``, that nothing acknowledged needs."""

    start: int


class _Scan:
    """Reads a segment from ``start`` record by record, past what is damaged."""

    def __init__(self, place: Place, name: str, start: int) -> None:
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


def iter_records(place: Place, name: str, start: int = 0) -> Iterator[tuple[int, Record]]:
    """Offset and record of each good record from ``start``, past damaged ones."""
    for seen in _Scan(place, name, start):
        if isinstance(seen, tuple):
            yield seen


class _Live:
    """A segment without a directory: the records seen in it so far, in memory."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.locations: dict[bytes, Location] = {}
        self.damage: list[Damage] = []
        self.end = 0  # behind the last record
        self.torn_at: int | None = None

    def note(self, offset: int, record: Record) -> None:
        self.locations[record.id] = Location(self.name, offset, record.kind, record.raw_bytes)
        self.end = offset + HEAD_BYTES + len(record.payload)

    def scan(self, place: Place, *, final: bool) -> None:
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


class Segments:
    """All segments of a place: append to one's own, find and read in all. Safe to use from several threads."""

    def __init__(self, place: Place, *, segment_bytes: int = SEGMENT_BYTES) -> None:
        self.place = place
        self._segment_bytes = segment_bytes
        self._lock = threading.RLock()
        self._sealed = Directories()
        self._live: dict[str, _Live] = {}
        self._own: _Live | None = None
        self._appender: Appender | None = None
        self._synced_end = 0
        self.refresh()

    # --- finding -----------------------------------------------------------

    def find(self, identity: bytes, *, refresh: bool = False) -> Location | None:
        """Where the record is; with ``refresh`` looks again for what other processes wrote before giving up."""
        with self._lock:
            where = self._find(identity)
            if where is None and refresh:
                self.refresh()
                where = self._find(identity)
            return where

    def _find(self, identity: bytes) -> Location | None:
        for live in self._live.values():
            if identity in live.locations:
                return live.locations[identity]
        return self._sealed.find(identity)

    def read(self, where: Location) -> Record:
        """The record at ``where``; raises ``BrokenError`` if its checksum or its place does not hold."""
        guess = self.place.read(where.segment, where.offset, HEAD_BYTES + where.raw_bytes)
        decoded = decode(guess, where.segment)
        if decoded is None:
            raise BrokenError(f"segment {where.segment}: the record at byte {where.offset} is damaged")
        return decoded[0]

    def damage(self) -> list[Damage]:
        """The damaged ranges that were met so far, by segment and place."""
        with self._lock:
            known = [d for sealed in self._sealed for d in sealed.damage]
            known += [d for live in self._live.values() for d in live.damage]
        return sorted(known, key=lambda d: (d.segment, d.start))

    def inspect(self) -> list[Damage]:
        """The damaged ranges of all segments, read again from end to end, even where the directory is good."""
        self.refresh()
        damage: list[Damage] = []
        for name in [n for n in self.place.names() if n.endswith(".seg")]:
            with contextlib.suppress(FileNotFoundError):
                live = _Live(name)
                live.scan(self.place, final=name in self._sealed)
                damage += live.damage
        return damage

    def refresh(self) -> None:
        """Take notice of segments that came, grew or were given up by their process since the last look."""
        with self._lock:
            if self.place.changed():
                self._look_around()
            for live in list(self._live.values()):
                if live is not self._own:
                    with contextlib.suppress(FileNotFoundError):
                        live.scan(self.place, final=False)

    def _look_around(self) -> None:
        names = set(self.place.names())
        sealed: list[Directory | None] = []
        for name in sorted(n for n in names if n.endswith(".seg")):
            if name in self._sealed or (self._own is not None and name == self._own.name):
                continue
            if name.removesuffix(".seg") + ".dir" in names:
                sealed.append(self._load_directory(name))
            else:
                sealed.append(self._seal_orphan(name))
        self._sealed.add(directory for directory in sealed if directory is not None)

    def _seal_orphan(self, name: str) -> Directory | None:
        """The directory of a segment that no process owns, else None; one that is owned is followed as it grows."""
        appender = self.place.own(name)
        if appender is None:
            self._live.setdefault(name, _Live(name))
            return None
        live = self._live.pop(name, None) or _Live(name)
        live.scan(self.place, final=True)
        return self._seal(live, appender)

    def _load_directory(self, name: str) -> Directory:
        stored = name.removesuffix(".seg") + ".dir"
        data = self.place.read(stored, 0, self.place.size(stored))
        directory = Directory.parse(name, data, self.place.size(name))
        if directory is None:
            live = _Live(name)
            live.scan(self.place, final=True)
            directory = self._write_directory(live)
        self._live.pop(name, None)
        return directory

    def _seal(self, live: _Live, appender: Appender) -> Directory | None:
        """The directory of a segment that nothing is added to any more; None for one that holds nothing."""
        if live.torn_at is not None:
            appender.truncate(live.torn_at)  # nothing that was acknowledged lies there
            appender.sync()
        directory = None
        if live.locations or live.damage:
            directory = self._write_directory(live)
        elif live.torn_at == 0 or not self.place.size(live.name):
            self.place.remove(live.name)
        appender.close()
        return directory

    def _write_directory(self, live: _Live) -> Directory:
        directory = Directory.build(live.name, live.locations, live.damage)
        stored = live.name.removesuffix(".seg") + ".dir"
        # On a full disk it stays in memory; the next opening makes it again.
        with contextlib.suppress(StorageError):
            self.place.write_whole(stored, directory.encoded(self.place.size(live.name)))
        return directory

    def rebuild(self) -> int:
        """Scan every sealed segment again and write its directory; returns the number of records found."""
        with self._lock:
            rebuilt = []
            for known in self._sealed:
                live = _Live(known.segment)
                live.scan(self.place, final=True)
                rebuilt.append(self._write_directory(live))
            self._sealed.replace(rebuilt)
            return sum(len(directory) for directory in rebuilt)

    # --- writing -----------------------------------------------------------

    def append(self, record: Record) -> None:
        """Add a record to this process's own segment; durable only after ``sync``."""
        with self._lock:
            if self._find(record.id) is not None:
                return
            if self._own is None or self._own.end >= self._segment_bytes:
                self._roll()
            assert self._own is not None and self._appender is not None
            offset = self._own.end
            self._appender.append(encode(record, self._own.name))
            self._own.note(offset, record)

    def _roll(self) -> None:
        self.close()
        name = f"{uuid.uuid4().hex}.seg"
        self._appender = self.place.create(name)
        self._own = self._live[name] = _Live(name)
        self._synced_end = 0

    def sync(self) -> None:
        """Return once everything appended so far is durable; raises ``StorageError`` and forgets it if it cannot be."""
        with self._lock:
            if self._appender is None or self._own is None or self._own.end == self._synced_end:
                return
            try:
                self._appender.sync()
            except StorageError:
                self._forget_unsynced()
                raise
            self._synced_end = self._own.end

    def _forget_unsynced(self) -> None:
        """After a failed fsync the kernel may call the same pages clean the next time although they were never written
        (fsync(2), "Error handling"): what was not durable before is stored again in another segment."""
        own, appender = self._own, self._appender
        assert own is not None and appender is not None
        self._own = self._appender = None
        own.locations = {i: where for i, where in own.locations.items() if where.offset < self._synced_end}
        own.torn_at = self._synced_end
        with contextlib.suppress(StorageError):
            self._take_up(self._seal(own, appender))
        self._live.pop(own.name, None)

    def _take_up(self, sealed: Directory | None) -> None:
        if sealed is not None:
            self._sealed.add([sealed])

    def close(self) -> None:
        """Seal this process's own segment."""
        with self._lock:
            if self._own is not None and self._appender is not None:
                self.sync()
                self._take_up(self._seal(self._live.pop(self._own.name), self._appender))
                self._own = self._appender = None

    def iter_all(self) -> Iterator[tuple[str, int, Record]]:
        """Segment, offset and record of everything stored, in no promised order."""
        for name in [n for n in self.place.names() if n.endswith(".seg")]:
            for offset, record in iter_records(self.place, name):
                yield name, offset, record


def whole_records(place: Place, name: str) -> tuple[int, list[Damage]]:
    """How many bytes of a segment are whole records or damage between them, while its owner may be adding to it; and
    that damage."""
    seen = _Live(name)
    seen.scan(place, final=False)
    return seen.end, seen.damage
