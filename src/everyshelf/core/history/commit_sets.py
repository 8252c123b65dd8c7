"""Lines of commits as bits: what a commit comes from, kept in a few kilobytes and made from the line of its parent.

Commits are known by numbers that grow from parent to child. A line of 100,000 commits takes 12 KB, and that of the next
commit is a copy of it with one bit more. A set of numbers takes four megabytes, and has to be built for every commit.
"""

from __future__ import annotations

from array import array
from bisect import bisect_left
from collections import OrderedDict
from collections.abc import Iterable, Iterator, Sequence, Set
from heapq import heappop, heappush

import numpy as np

from everyshelf.core.errors import BrokenError

_MOST_KEPT_BYTES = 2 * 1024 * 1024


class CommitSet(Set[int]):
    """Some commits of a history by their numbers, smallest first."""

    __slots__ = ("_bits", "_count", "_numbers")

    def __init__(self, numbers: Sequence[int] = (), bits: bytes = b"") -> None:
        self._numbers, self._bits = numbers, bits
        self._count = -1

    def __contains__(self, number: object) -> bool:
        place = _place(self._numbers, number) if isinstance(number, int) else -1
        return place >= 0 and _has(self._bits, place)

    def __len__(self) -> int:
        if self._count < 0:
            self._count = _as_int(self._bits).bit_count()
        return self._count

    def __iter__(self) -> Iterator[int]:
        return (self._numbers[place] for place in self._places().tolist())

    def page(self, size: int, *, after: int | None = None, newest_first: bool = False) -> list[int]:
        """The first ``size`` numbers in the order asked for; ``after``: those that come after this one in it."""
        places = self._places()
        if after is not None:
            at = bisect_left(self._numbers, after if newest_first else after + 1)
            first = int(np.searchsorted(places, at))
            places = places[:first] if newest_first else places[first:]
        found = places[max(0, len(places) - size) :][::-1] if newest_first else places[:size]
        return [self._numbers[place] for place in found.tolist()]

    @property
    def newest(self) -> int | None:
        """The greatest number; None for an empty set."""
        place = _as_int(self._bits).bit_length() - 1
        return self._numbers[place] if place >= 0 else None

    def __and__(self, other: Iterable[int]) -> CommitSet:
        return _of_bits(self._numbers, _as_int(self._bits) & self._same(other))

    def __or__(self, other: Iterable[int]) -> CommitSet:  # type: ignore[override]  # of one history: numbers, as here
        numbers = other._numbers if isinstance(other, CommitSet) and not self._bits else self._numbers
        return _of_bits(numbers, _as_int(self._bits) | self._same(other))

    def __sub__(self, other: Iterable[int]) -> CommitSet:
        return _of_bits(self._numbers, _as_int(self._bits) & ~self._same(other))

    __rand__ = __and__

    @classmethod
    def _from_iterable(cls, it: Iterable[int]) -> frozenset[int]:  # type: ignore[override]
        """What the operators give that are not defined here, as with a plain set on their left."""
        return frozenset(it)

    def _same(self, other: Iterable[int]) -> int:
        """The bits of other numbers, as far as they are of this history."""
        if isinstance(other, CommitSet):
            return _as_int(other._bits)
        places = [place for number in other if (place := _place(self._numbers, number)) >= 0]
        flags = bytearray(max(places, default=-1) + 1)
        for place in places:
            flags[place] = 1
        return _as_int(_packed(flags))

    def _places(self) -> np.ndarray[tuple[int], np.dtype[np.intp]]:
        return np.flatnonzero(np.unpackbits(np.frombuffer(self._bits, np.uint8), bitorder="little"))


class Descent:
    """The parents of every commit of a history. Commits are added in the order of their numbers, parents before
    children; what was taken from it stays as it is."""

    def __init__(self) -> None:
        self._numbers = array("q")
        self._first = array("q")  # the place of the first parent, -1 for none
        self._others: dict[int, tuple[int, ...]] = {}  # the places of further parents
        self._lines: OrderedDict[int, bytes] = OrderedDict()
        self._kept_bytes = 0

    @property
    def newest(self) -> int:
        """The greatest number there is; 0 for none."""
        return self._numbers[-1] if self._numbers else 0

    def add(self, number: int, parents: Sequence[int]) -> None:
        """Take in a commit. Raises ``BrokenError`` for a number that is not greater than all, or an unknown parent."""
        places = [_place(self._numbers, parent) for parent in parents]
        if number <= self.newest or -1 in places:
            raise BrokenError(
                f"the record of commit {number} is damaged: it does not come after its parents",
                hint="Restore the records from a backup: everyshelf backup list.",
            )
        if len(places) > 1:
            self._others[len(self._numbers)] = tuple(places[1:])
        self._first.append(places[0] if places else -1)
        self._numbers.append(number)

    def copy(self) -> Descent:
        """One that grows by itself."""
        other = Descent()
        other._numbers, other._first = self._numbers[:], self._first[:]
        other._others, other._lines = self._others.copy(), self._lines.copy()
        other._kept_bytes = self._kept_bytes
        return other

    def __contains__(self, number: int) -> bool:
        return _place(self._numbers, number) >= 0

    def parents(self, number: int) -> list[int]:
        """Direct parents, the first one first; none of a commit that is not known."""
        place = _place(self._numbers, number)
        if place < 0 or self._first[place] < 0:
            return []
        places = (self._first[place], *self._others.get(place, ()))
        return [self._numbers[parent] for parent in places]

    def line(self, number: int) -> CommitSet:
        """The commit and everything it comes from; nothing for a commit that is not known."""
        place = _place(self._numbers, number)
        if place < 0:
            return CommitSet(self._numbers)
        bits = self._lines.get(place)
        if bits is None:
            bits = self._lines[place] = self._walked(place)
            self._kept_bytes += len(bits)
            while self._kept_bytes > _MOST_KEPT_BYTES and len(self._lines) > 1:
                self._kept_bytes -= len(self._lines.popitem(last=False)[1])
        else:
            self._lines.move_to_end(place)
        return CommitSet(self._numbers, bits)

    def _walked(self, start: int) -> bytes:
        """The bits of a line. Newest first, so that a line which is kept is met before anything that it holds."""
        flags, known = bytearray(start + 1), b""
        heap = [-start]
        while heap:
            place = -heappop(heap)
            while place >= 0 and not flags[place] and not _has(known, place):
                kept = self._lines.get(place)
                if kept is not None:
                    known = _joined(known, kept)
                    break
                flags[place] = 1
                for other in self._others.get(place, ()):
                    heappush(heap, -other)
                place = self._first[place]
                if heap and place >= 0 and -heap[0] > place:
                    heappush(heap, -place)
                    break
        return _joined(_packed(flags), known)


def _of_bits(numbers: Sequence[int], bits: int) -> CommitSet:
    return CommitSet(numbers, bits.to_bytes((bits.bit_length() + 7) // 8, "little"))


def _place(numbers: Sequence[int], number: int) -> int:
    """Where a number is, -1 if it is not among them."""
    place = bisect_left(numbers, number)
    return place if place < len(numbers) and numbers[place] == number else -1


def _has(bits: bytes, place: int) -> bool:
    return place < 8 * len(bits) and bool(bits[place >> 3] >> (place & 7) & 1)


def _packed(flags: bytearray) -> bytes:
    return np.packbits(np.frombuffer(flags, np.uint8), bitorder="little").tobytes()


def _joined(one: bytes, other: bytes) -> bytes:
    both = _as_int(one) | _as_int(other)
    return both.to_bytes(max(len(one), len(other)), "little")


def _as_int(bits: bytes) -> int:
    return int.from_bytes(bits, "little")
