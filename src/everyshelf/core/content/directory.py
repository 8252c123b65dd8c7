"""Directories: which ids a sealed segment holds, and one search over those of all segments."""

from __future__ import annotations

import contextlib
import struct
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from everyshelf.core.content.records import CHECK_BYTES, Damage, Location, check
from everyshelf.core.errors import BrokenError

_DIRECTORY_MARK = b"ESd2"
_DIRECTORY_HEAD = struct.Struct("<4sIIQ")
_ENTRY = np.dtype(
    [("prefix", "<u8"), ("id", "V32"), ("offset", "<u8"), ("raw", "<u4"), ("kind", "u1"), ("delta", "?"), ("pad", "V2")]
)
_ROW = struct.Struct("<Q32sQIB?2x")  # an entry, read without numpy: one at a time that is faster
_ID_WORDS = _ENTRY["id"].itemsize // 8
_RANGE = struct.Struct("<QQ")
_RATIO = 4


class WrongDirectoryError(BrokenError):
    """A stored directory is not what it was when its check held."""

    def __init__(self, segment: str) -> None:
        super().__init__(f"the directory of segment {segment} is damaged")
        self.segment = segment


class Directory:
    """The sorted ids of one sealed segment, entries of fixed size, and its damaged ranges.

    The entries are in memory, or only where they are stored (``leave``): of each id the search over all directories
    keeps the beginning, and reads the rest when it is asked for.
    """

    def __init__(self, segment: str, entries: NDArray[np.void], damage: list[Damage]) -> None:
        self.segment = segment
        self.damage = damage
        self.delta_count = int(entries["delta"].sum())
        self._count = len(entries)
        self._entries: NDArray[np.void] | None = entries
        self._stored: Callable[[int, int], bytes] | None = None

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
        head = _DIRECTORY_HEAD.pack(_DIRECTORY_MARK, self._count, len(self.damage), segment_bytes)
        ranges = b"".join(_RANGE.pack(d.start, d.stop) for d in self.damage)
        body = head + self._all.tobytes() + ranges
        return body + check(CHECK_BYTES, self.segment.encode(), body)

    def is_stored(self, read: Callable[[int, int], bytes]) -> None:
        """Take notice that it is stored; ``read`` gives a range of the stored bytes, from its start and of a length."""
        self._stored = read

    def leave(self) -> None:
        """Keep no entries in memory, if they are stored."""
        if self._stored is not None:
            self._entries = None

    @property
    def is_in_memory(self) -> bool:
        """Whether its entries are."""
        return self._entries is not None

    @property
    def _all(self) -> NDArray[np.void]:
        if self._entries is None:
            raise ValueError(f"the directory of {self.segment} was left where it is stored")
        return self._entries

    @property
    def prefixes(self) -> NDArray[np.uint64]:
        """The first eight bytes of each id as a number, in order; as ``offsets`` and ``deltas`` of one in memory."""
        prefixes: NDArray[np.uint64] = self._all["prefix"]
        return prefixes

    @property
    def offsets(self) -> NDArray[np.uint64]:
        """Where in the segment each record begins."""
        offsets: NDArray[np.uint64] = self._all["offset"]
        return offsets

    @property
    def deltas(self) -> NDArray[np.bool_]:
        """Whether each record is a delta."""
        deltas: NDArray[np.bool_] = self._all["delta"]
        return deltas

    def at(self, row: int, identity: bytes, *, is_sure: bool) -> Location | None:
        """Where the record of that row lies, if it has this id, of which it is known to have the beginning.

        Raises ``WrongDirectoryError`` where the id is another one (unless the directory ``is_sure``, because it was
        read as a whole a moment ago: two ids may begin alike), or the directory is not stored any more.
        """
        there, where = self.row(row)
        if there != identity and not is_sure:
            raise WrongDirectoryError(self.segment)
        return where if there == identity else None

    def row(self, row: int) -> tuple[bytes, Location]:
        """Id and place of the record of that row. Raises ``WrongDirectoryError``."""
        if self._entries is not None:
            data = self._entries[row].tobytes()
        else:
            assert self._stored is not None
            data = b""
            with contextlib.suppress(FileNotFoundError):
                data = self._stored(_DIRECTORY_HEAD.size + row * _ROW.size, _ROW.size)
            if len(data) != _ROW.size:
                raise WrongDirectoryError(self.segment)
        _, identity, offset, raw, kind, delta = _ROW.unpack(data)
        return identity, Location(self.segment, offset, kind, raw, delta)

    def __len__(self) -> int:
        return self._count


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

    def without(self, owners: set[int]) -> _Run:
        """What does not come from these directories."""
        left = ~np.isin(self.owners, list(owners))
        return _Run(self.prefixes[left], self.owners[left], self.rows[left])

    def find(self, prefix: np.uint64) -> Iterator[tuple[int, int]]:
        """Directory and row of every id with this prefix: hardly ever more than one."""
        at = int(self.prefixes.searchsorted(prefix))
        while at < len(self.prefixes) and self.prefixes[at] == prefix:
            yield int(self.owners[at]), int(self.rows[at])
            at += 1


class Directories:
    """One search over the directories of all sealed segments, however many there are.

    Of each id its beginning is in memory: the prefixes lie in a few sorted runs, each at least four times as long as
    the next (a log-structured merge tree, O'Neil et al. 1996), so a lookup takes a handful of binary searches, and
    adding a segment re-sorts few old entries. The rest of an entry is read where its directory is stored.
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
                prefixes = directory.prefixes.copy()
                runs.append(_Run(prefixes, owners, np.arange(count, dtype=np.uint32)))
            directory.leave()
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
        gone = {name for name in segments if self._all.pop(name, None) is not None}
        if gone:
            owners = {number for number, one in enumerate(self._numbered) if one.segment in gone}
            left = [run.without(owners) for run in self._runs]
            self._runs = [run for run in left if len(run.rows)]

    def in_memory(self, segment: str) -> Directory | None:
        """The directory of a segment, if all of it is in memory: where it could not be stored."""
        found = self._all.get(segment)
        return found if found is not None and found.is_in_memory else None

    def find_all(self, identity: bytes, sure: set[str] | None = None) -> Iterator[Location]:
        """Everywhere a record with this id lies. Raises ``WrongDirectoryError``; ``sure``: segments whose directories
        were read as a whole a moment ago."""
        prefix = np.uint64(int.from_bytes(identity[:8], "big"))
        for run in self._runs:
            for owner, row in run.find(prefix):
                directory = self._numbered[owner]
                where = directory.at(row, identity, is_sure=sure is not None and directory.segment in sure)
                if where is not None:
                    yield where
