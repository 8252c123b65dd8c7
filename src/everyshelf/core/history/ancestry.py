"""Ancestry over commit numbers: who comes from whom, and where two lines parted."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from heapq import heapify, heappop, heappush
from typing import TypeVar

T = TypeVar("T", int, str)
Parents = Callable[[T], Sequence[T]]


def ancestors(start: T, parents: Parents[T]) -> set[T]:
    """``start`` and everything it comes from."""
    seen, waiting = {start}, [start]
    while waiting:
        for parent in parents(waiting.pop()):
            if parent not in seen:
                seen.add(parent)
                waiting.append(parent)
    return seen


def merge_base(one: T, other: T, parents: Parents[T], order: Callable[[T], int]) -> T | None:
    """The newest common ancestor by ``order`` (which must grow from parent to child), or None.

    Walks both lines from the newest down and stops at the first commit both reach, so what lies behind is not read.
    """
    reached: dict[T, int] = {}
    heap: list[tuple[int, T, int]] = []
    for start, side in ((one, 1), (other, 2)):
        heappush(heap, (-order(start), start, side))
    while heap:
        _rank, commit, side = heappop(heap)
        before = reached.get(commit, 0)
        reached[commit] = before | side
        # Whatever can still add a side to this commit is newer and was taken from the heap before it.
        while heap and heap[0][1] == commit:
            reached[commit] |= heappop(heap)[2]
        if reached[commit] == 3:
            return commit
        if reached[commit] != before:
            for parent in parents(commit):
                heappush(heap, (-order(parent), parent, reached[commit]))
    return None


def divergence(one: T, other: T, parents: Parents[T], order: Callable[[T], int]) -> tuple[int, int]:
    """How many commits only ``one`` comes from, and how many only ``other``; what lies behind their newest common
    ancestors is not read. ``order`` must grow from parent to child."""
    sides = {one: 1, other: 2} if one != other else {one: 3}
    heap = [(-order(commit), commit) for commit in sides]
    heapify(heap)
    open_sides = len(heap) if one != other else 0  # commits waiting that only one line reaches
    counts = {1: 0, 2: 0}
    while heap and open_sides:
        _, commit = heappop(heap)
        side = sides.pop(commit)
        if side != 3:
            open_sides -= 1
            counts[side] += 1
        for parent in parents(commit):
            before = sides.get(parent)
            if before is None:
                heappush(heap, (-order(parent), parent))
                open_sides += side != 3
            elif before != 3 and before | side == 3:
                open_sides -= 1
            sides[parent] = (before or 0) | side
    return counts[1], counts[2]


def newest_first(start: T, parents: Parents[T], order: Callable[[T], int]) -> Iterator[T]:
    """``start`` and its ancestors, newest first, read as they are asked for."""
    heap, seen = [(-order(start), start)], {start}
    while heap:
        _, commit = heappop(heap)
        yield commit
        for parent in parents(commit):
            if parent not in seen:
                seen.add(parent)
                heappush(heap, (-order(parent), parent))


def count_until(commits: Iterable[T], stop: set[T]) -> int:
    """How many of ``commits`` are not in ``stop``."""
    return sum(c not in stop for c in commits)
