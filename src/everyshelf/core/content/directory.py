"""Directories: which ids a sealed segment holds, and one search over those of all segments."""

from __future__ import annotations

import struct
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from everyshelf.core.content.records import CHECK_BYTES, Damage, Location, check

_DIRECTORY_MARK = b"ESd2"
_DIRECTORY_HEAD = struct.Struct("<4sIIQ")
_ENTRY = np.dtype(
    [("prefix", "<u8"), ("id", "V32"), ("offset", "<u8"), ("raw", "<u4"), ("kind", "u1"), ("delta", "?"), ("pad", "V2")]
)
_ROW = struct.Struct("<Q32sQIB?2x")  # an entry, read without numpy: one at a time that is faster
_ID_WORDS = _ENTRY["id"].itemsize // 8
_RANGE = struct.Struct("<QQ")
_RATIO = 4


class Directory:
    """The sorted ids of one sealed segment, kept as one array of fixed-size entries, and its damaged ranges."""

    def __init__(self, segment: str, entries: NDArray[np.void], damage: list[Damage]) -> None:
        self.segment = segment
        self.damage = damage
        self._entries = entries
        self._bytes = entries.view(np.uint8).data

    @classmethod
    def build(cls, segment: str, locations: dict[bytes, Location], damage: list[Damage]) -> Directory:
        """From what a scan found."""
        rows = sorted(locations.items())
        ids = b"".join(identity for identity, _ in rows)
        entries = np.zeros(len(rows), _ENTRY)
        entries["prefix"] = np.frombuffer(ids, ">u8")[::_ID_WORDS]
        entries["id"] = np.frombuffer(ids, _ENTRY["id"])
        entries["offset"] = np.fromiter((where.offset for _, where in rows), np.uint64, len(rows))
        entries["raw"] = np.fromiter((where.raw_bytes for _, where in rows), np.uint32, len(rows))
        entries["kind"] = np.fromiter((where.kind for _, where in rows), np.uint8, len(rows))
        entries["delta"] = np.fromiter((where.delta for _, where in rows), np.bool_, len(rows))
        return cls(segment, entries, damage)

    @classmethod
    def parse(cls, segment: str, data: bytes, segment_bytes: int) -> Directory | None:
        """From stored bytes, or None if they are not the directory of a segment of that length."""
        if len(data) < _DIRECTORY_HEAD.size + CHECK_BYTES:
            return None
        mark, count, ranges, length = _DIRECTORY_HEAD.unpack_from(data)
        body = data[:-CHECK_BYTES]
        ranges_at = _DIRECTORY_HEAD.size + count * _ENTRY.itemsize
        whole = len(body) == ranges_at + ranges * _RANGE.size
        if mark != _DIRECTORY_MARK or length != segment_bytes or not whole:
            return None
        if check(CHECK_BYTES, segment.encode(), body) != data[-CHECK_BYTES:]:
            return None
        damage = [Damage(segment, start, stop) for start, stop in _RANGE.iter_unpack(body[ranges_at:])]
        return cls(segment, np.frombuffer(body, _ENTRY, count, _DIRECTORY_HEAD.size), damage)

    def encoded(self, segment_bytes: int) -> bytes:
        """The bytes to store beside a segment of ``segment_bytes``."""
        head = _DIRECTORY_HEAD.pack(_DIRECTORY_MARK, len(self._entries), len(self.damage), segment_bytes)
        ranges = b"".join(_RANGE.pack(d.start, d.stop) for d in self.damage)
        body = head + self._entries.tobytes() + ranges
        return body + check(CHECK_BYTES, self.segment.encode(), body)

    @property
    def prefixes(self) -> NDArray[np.uint64]:
        """The first eight bytes of each id as a number, in order."""
        prefixes: NDArray[np.uint64] = self._entries["prefix"]
        return prefixes

    @property
    def offsets(self) -> NDArray[np.uint64]:
        """Where in the segment each record begins."""
        offsets: NDArray[np.uint64] = self._entries["offset"]
        return offsets

    @property
    def deltas(self) -> NDArray[np.bool_]:
        """Whether each record is a delta."""
        deltas: NDArray[np.bool_] = self._entries["delta"]
        return deltas

    def at(self, row: int, identity: bytes) -> Location | None:
        """Where the record of that row lies, if it has this id."""
        there, where = self.row(row)
        return where if there == identity else None

    def row(self, row: int) -> tuple[bytes, Location]:
        """Id and place of the record of that row."""
        _, identity, offset, raw, kind, delta = _ROW.unpack_from(self._bytes, row * _ROW.size)
        return identity, Location(self.segment, offset, kind, raw, delta)

    def __len__(self) -> int:
        return len(self._entries)


@dataclass(frozen=True)
class _Run:
    """Prefixes of many directories in order; for each, which directory and which of its rows it comes from."""

    prefixes: NDArray[np.uint64]
    owners: NDArray[np.uint32]
    rows: NDArray[np.uint32]

    @classmethod
    def merged(cls, runs: list[_Run]) -> _Run:
        prefixes = np.concatenate([run.prefixes for run in runs])
        order = np.argsort(prefixes, kind="stable")
        owners, rows = (np.concatenate(p)[order] for p in ([r.owners for r in runs], [r.rows for r in runs]))
        return cls(prefixes[order], owners, rows)

    def find(self, prefix: np.uint64) -> Iterator[tuple[int, int]]:
        """Directory and row of every id with this prefix: hardly ever more than one."""
        at = int(self.prefixes.searchsorted(prefix))
        while at < len(self.prefixes) and self.prefixes[at] == prefix:
            yield int(self.owners[at]), int(self.rows[at])
            at += 1


class Directories:
    """One search over the directories of all sealed segments, however many there are.

    The prefixes lie in a few sorted runs, each at least four times as long as the next (a log-structured merge tree,
    O'Neil et al. 1996), so a lookup takes a handful of binary searches, and adding a segment re-sorts few old entries.
    """

    def __init__(self) -> None:
        self._all: dict[str, Directory] = {}
        self._numbered: list[Directory] = []  # runs name directories by their place here
        self._runs: list[_Run] = []

    def __contains__(self, segment: str) -> bool:
        return segment in self._all

    def __iter__(self) -> Iterator[Directory]:
        return iter(self._all.values())

    def add(self, directories: Iterable[Directory]) -> None:
        """Add the directories of new segments."""
        runs = []
        for directory in directories:
            owner = len(self._numbered)
            self._all[directory.segment] = directory
            self._numbered.append(directory)
            count = len(directory)
            if count:
                owners = np.full(count, owner, np.uint32)
                runs.append(_Run(directory.prefixes, owners, np.arange(count, dtype=np.uint32)))
        if runs:
            self._runs.append(_Run.merged(runs))
        while len(self._runs) > 1 and _RATIO * len(self._runs[-1].rows) > len(self._runs[-2].rows):
            self._runs.append(_Run.merged([self._runs.pop(), self._runs.pop()]))

    def replace(self, directories: Iterable[Directory]) -> None:
        """Replace all known directories with these."""
        self._all, self._numbered, self._runs = {}, [], []
        self.add(directories)

    def remove(self, segments: set[str]) -> None:
        """Forget the directories of segments that were removed."""
        if any(name in self._all for name in segments):
            self.replace([directory for name, directory in self._all.items() if name not in segments])

    def find(self, identity: bytes, *, complete: bool = False) -> Location | None:
        """Return where a record lies, or None; ``complete``: look only for records that are stored whole."""
        return next((where for where in self.find_all(identity) if not (complete and where.delta)), None)

    def find_all(self, identity: bytes) -> Iterator[Location]:
        """Everywhere a record with this id lies."""
        prefix = np.uint64(int.from_bytes(identity[:8], "big"))
        for run in self._runs:
            for owner, row in run.find(prefix):
                where = self._numbered[owner].at(row, identity)
                if where is not None:
                    yield where
