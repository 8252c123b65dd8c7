"""Segments: append-only files of checked records, each with a sorted directory that can be rebuilt by scanning.

A record is a fixed head and a payload::

    4 s  mark b"ESr1"      1 B  kind      1 B  codec      2 B  nought
    32 s id                4 B  stored length             4 B  raw length
    4 B  check: the first bytes of the BLAKE3 hash of the head before it and the payload

Lengths are little-endian and in bytes. A segment whose last record is incomplete or fails its checksum was torn by a
crash: it is cut off after the last good record. Every process appends to a segment of its own; a segment nobody owns
is sealed, which means that a directory is written beside it.
"""

from __future__ import annotations

import contextlib
import struct
import threading
import uuid
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from blake3 import blake3
from numpy.typing import NDArray

from everyshelf.core.content.place import Appender, Place
from everyshelf.core.errors import BrokenError

_HEAD = struct.Struct("<4sBBH32sII")
_CHECK_BYTES = 4
HEAD_BYTES = _HEAD.size + _CHECK_BYTES
_MARK = b"ESr1"
_DIRECTORY_MARK = b"ESd1"
_DIRECTORY_HEAD = struct.Struct("<4sIQ")
_ENTRY = np.dtype([("prefix", "<u8"), ("id", "V32"), ("offset", "<u8"), ("raw", "<u4"), ("kind", "u1"), ("pad", "V3")])
SEGMENT_BYTES = 256 * 1024 * 1024
_SCAN_BYTES = 4 * 1024 * 1024

WHOLE, CHUNK, RECIPE = 1, 2, 3
RAW, ZSTD = 0, 1


@dataclass(frozen=True)
class Record:
    """One stored piece: ``payload`` as it lies on disk, ``raw_bytes`` its length when unpacked."""

    id: bytes
    kind: int
    codec: int
    raw_bytes: int
    payload: bytes


@dataclass(frozen=True)
class Location:
    """Where a record lies, and what a caller may want to know before reading it."""

    segment: str
    offset: int
    kind: int
    raw_bytes: int


def _check(*parts: bytes) -> bytes:
    # As a checksum BLAKE3 is several times faster than CRC-32 in the standard library, and catches more.
    hasher = blake3()
    for part in parts:
        hasher.update(part)
    return hasher.digest(_CHECK_BYTES)


def encode(record: Record) -> bytes:
    """The record's bytes, head and payload."""
    head = _HEAD.pack(_MARK, record.kind, record.codec, 0, record.id, len(record.payload), record.raw_bytes)
    return b"".join((head, _check(head, record.payload), record.payload))


def decode(data: bytes) -> tuple[Record, int] | None:
    """The record at the start of ``data`` and its length, or None if it is incomplete or damaged."""
    if len(data) < HEAD_BYTES or data[:4] != _MARK:
        return None
    _, kind, codec, _, identity, stored, raw = _HEAD.unpack_from(data)
    end = HEAD_BYTES + stored
    if len(data) < end:
        return None
    payload = bytes(data[HEAD_BYTES:end])
    if _check(data[: _HEAD.size], payload) != data[_HEAD.size : HEAD_BYTES]:
        return None
    return Record(identity, kind, codec, raw, payload), end


def iter_records(place: Place, name: str, start: int = 0) -> Iterator[tuple[int, Record]]:
    """Offset and record of each good record from ``start``; stops before the first that is torn or damaged."""
    buffer, at = b"", start
    while True:
        found = decode(buffer)
        if found is None:
            more = place.read(name, at + len(buffer), _SCAN_BYTES)
            if not more:
                return
            buffer += more
            continue
        record, length = found
        yield at, record
        at += length
        buffer = buffer[length:] if len(buffer) < _SCAN_BYTES else bytes(memoryview(buffer)[length:])


class Directory:
    """The sorted ids of one sealed segment, kept as one array of fixed-size entries (prefix search, then full id)."""

    def __init__(self, segment: str, entries: NDArray[np.void]) -> None:
        self.segment = segment
        self._entries = entries
        self._prefixes = np.ascontiguousarray(entries["prefix"])

    @classmethod
    def build(cls, segment: str, found: dict[bytes, Location]) -> Directory:
        """From what a scan found."""
        entries = np.zeros(len(found), _ENTRY)
        for row, (identity, where) in enumerate(sorted(found.items())):
            prefix = int.from_bytes(identity[:8], "big")
            entries[row] = (prefix, identity, where.offset, where.raw_bytes, where.kind, b"")
        return cls(segment, entries)

    @classmethod
    def parse(cls, segment: str, data: bytes, segment_bytes: int) -> Directory | None:
        """From stored bytes, or None if they are not the directory of a segment of that length."""
        if len(data) < _DIRECTORY_HEAD.size + _CHECK_BYTES:
            return None
        mark, count, length = _DIRECTORY_HEAD.unpack_from(data)
        body = data[:-_CHECK_BYTES]
        whole = len(body) == _DIRECTORY_HEAD.size + count * _ENTRY.itemsize
        if mark != _DIRECTORY_MARK or length != segment_bytes or not whole:
            return None
        if _check(body) != data[-_CHECK_BYTES:]:
            return None
        return cls(segment, np.frombuffer(body, _ENTRY, count, _DIRECTORY_HEAD.size))

    def encoded(self, segment_bytes: int) -> bytes:
        """The bytes to store beside a segment of ``segment_bytes``."""
        body = _DIRECTORY_HEAD.pack(_DIRECTORY_MARK, len(self._entries), segment_bytes) + self._entries.tobytes()
        return body + _check(body)

    def find(self, identity: bytes) -> Location | None:
        """Where ``identity`` lies, or None."""
        prefix = np.uint64(int.from_bytes(identity[:8], "big"))
        row = int(np.searchsorted(self._prefixes, prefix))
        while row < len(self._entries) and self._prefixes[row] == prefix:
            entry = self._entries[row]
            if entry["id"].tobytes() == identity:
                return Location(self.segment, int(entry["offset"]), int(entry["kind"]), int(entry["raw"]))
            row += 1
        return None

    def __len__(self) -> int:
        return len(self._entries)


class _Live:
    """A segment that some process still writes: its records found so far, in memory."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.found: dict[bytes, Location] = {}
        self.end = 0

    def note(self, offset: int, record: Record) -> None:
        self.found[record.id] = Location(self.name, offset, record.kind, record.raw_bytes)
        self.end = offset + HEAD_BYTES + len(record.payload)

    def scan(self, place: Place) -> None:
        for offset, record in iter_records(place, self.name, self.end):
            self.note(offset, record)


class Segments:
    """All segments of a place: append to one's own, find and read in all. Safe to use from several threads."""

    def __init__(self, place: Place, *, segment_bytes: int = SEGMENT_BYTES) -> None:
        self.place = place
        self._segment_bytes = segment_bytes
        self._lock = threading.RLock()
        self._sealed: dict[str, Directory] = {}
        self._live: dict[str, _Live] = {}
        self._own: _Live | None = None
        self._appender: Appender | None = None
        self._unsynced = False
        self.refresh()

    # --- finding -----------------------------------------------------------

    def find(self, identity: bytes, *, refresh: bool = False) -> Location | None:
        """Where the record is; with ``refresh`` looks again for what other processes wrote before giving up."""
        with self._lock:
            found = self._find(identity)
            if found is None and refresh:
                self.refresh()
                found = self._find(identity)
            return found

    def _find(self, identity: bytes) -> Location | None:
        for live in self._live.values():
            if identity in live.found:
                return live.found[identity]
        for directory in self._sealed.values():
            found = directory.find(identity)
            if found is not None:
                return found
        return None

    def read(self, where: Location) -> Record:
        """The record at ``where``; raises ``BrokenError`` if its checksum or its place does not hold."""
        guess = self.place.read(where.segment, where.offset, HEAD_BYTES + where.raw_bytes)
        found = decode(guess)
        if found is None:
            raise BrokenError(f"segment {where.segment}: the record at byte {where.offset} is damaged")
        return found[0]

    def refresh(self) -> None:
        """Take notice of segments that came, grew or were given up by their process since the last look."""
        with self._lock:
            names = set(self.place.names())
            for name in sorted(n for n in names if n.endswith(".seg")):
                if name in self._sealed or (self._own is not None and name == self._own.name):
                    continue
                self._look_at(name, name.removesuffix(".seg") + ".dir" in names)

    def _look_at(self, name: str, has_directory: bool) -> None:
        if has_directory:
            self._load_directory(name)
            return
        appender = self.place.own(name)
        if appender is None:
            with contextlib.suppress(FileNotFoundError):
                self._live.setdefault(name, _Live(name)).scan(self.place)
            return
        live = self._live.pop(name, None) or _Live(name)
        live.scan(self.place)
        self._seal(live, appender)

    def _load_directory(self, name: str) -> None:
        stored = name.removesuffix(".seg") + ".dir"
        data = self.place.read(stored, 0, self.place.size(stored))
        directory = Directory.parse(name, data, self.place.size(name))
        if directory is None:
            live = _Live(name)
            live.scan(self.place)
            directory = self._write_directory(live)
        self._sealed[name] = directory
        self._live.pop(name, None)

    def _seal(self, live: _Live, appender: Appender) -> None:
        if live.end < self.place.size(live.name):
            appender.truncate(live.end)  # the torn tail of a crash: nothing recorded refers to it
            appender.sync()
        if live.end:
            self._sealed[live.name] = self._write_directory(live)
        else:
            self.place.remove(live.name)
        appender.close()

    def _write_directory(self, live: _Live) -> Directory:
        directory = Directory.build(live.name, live.found)
        self.place.write_whole(live.name.removesuffix(".seg") + ".dir", directory.encoded(live.end))
        return directory

    def rebuild(self) -> int:
        """Scan every sealed segment anew and write its directory; returns the number of records found."""
        with self._lock:
            total = 0
            for name in list(self._sealed):
                live = _Live(name)
                live.scan(self.place)
                self._sealed[name] = self._write_directory(live)
                total += len(live.found)
            return total

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
            self._appender.append(encode(record))
            self._own.note(offset, record)
            self._unsynced = True

    def _roll(self) -> None:
        self.close()
        name = f"{uuid.uuid4().hex}.seg"
        self._appender = self.place.create(name)
        self._own = self._live[name] = _Live(name)

    def sync(self) -> None:
        """Return once everything appended so far is durable."""
        with self._lock:
            if self._appender is not None and self._unsynced:
                self._appender.sync()
                self._unsynced = False

    def close(self) -> None:
        """Seal this process's own segment."""
        with self._lock:
            if self._own is not None and self._appender is not None:
                self.sync()
                self._seal(self._live.pop(self._own.name), self._appender)
            self._own = self._appender = None

    def iter_all(self) -> Iterator[tuple[str, int, Record]]:
        """Segment, offset and record of everything stored, in no promised order."""
        for name in [n for n in self.place.names() if n.endswith(".seg")]:
            for offset, record in iter_records(self.place, name):
                yield name, offset, record
