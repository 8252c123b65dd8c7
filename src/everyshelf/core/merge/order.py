"""In which order the items of a list or map stand after a merge."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Sequence, Set
from dataclasses import dataclass
from typing import Generic, TypeVar

from everyshelf.core.compare.sequence import increasing

K = TypeVar("K", bound=Hashable)


@dataclass(frozen=True)
class Order(Generic[K]):
    """The order; whether both sides put the same items elsewhere; at how many places both inserted something."""

    keys: list[K]
    clash: bool
    both_inserted: int


def merged_order(base: Sequence[K], this: Sequence[K], other: Sequence[K], kept: Set[K]) -> Order[K]:
    """All of ``kept`` in order.

    New items stand behind what they stood behind on their side; where both inserted at one place, this side's first.
    Where both put the same items elsewhere, this side's order stands, and that is a clash.
    """
    if base == this == other and len(base) == len(kept):
        return Order(list(base), False, 0)
    both = _both_inserted(base, this, other, kept)
    every = {*base, *kept}
    # What a side removed keeps its place until the end: new items of the other side may stand behind it.
    this, other = (_inserted(side, base, every, before=True) for side in (this, other))
    common = set(base)
    was: list[K] = [k for k in base if k in common]
    ours: list[K] = [k for k in this if k in common]
    theirs: list[K] = [k for k in other if k in common]
    if ours == was and theirs != was:
        found = _inserted(other, this, every, before=True)
        return Order([k for k in found if k in kept], False, both)
    main, clash = list(this), False
    if theirs not in (was, ours):
        moved: set[K] = _moved(was, theirs)
        clash = bool(moved & _moved(was, ours))
        if not clash:
            main = _inserted([k for k in main if k not in moved], other, set(main), before=False)
    found = _inserted(main, other, every, before=False)
    return Order([k for k in found if k in kept], clash, both)


def replaced_by_both(
    base: Sequence[K], this: Sequence[K], other: Sequence[K]
) -> list[tuple[list[K], list[K], list[K]]]:
    """Stretches that both sides took out and put something else in the place of: what was there, and what each has."""
    common = set(base) & set(this) & set(other)
    known = set(base)
    present = {*this, *other}
    gone = _by_anchor(base, common, lambda k: k not in present)
    if not gone:
        return []
    ours = _by_anchor(this, common, lambda k: k not in known)
    theirs = _by_anchor(other, common, lambda k: k not in known)
    return [
        (keys, ours[a], theirs[a]) for a, keys in gone.items() if a in ours and a in theirs and ours[a] != theirs[a]
    ]


def _by_anchor(side: Sequence[K], common: Set[K], wanted: Callable[[K], bool]) -> dict[K | None, list[K]]:
    """The wanted keys by the common key they stand behind."""
    found: dict[K | None, list[K]] = {}
    anchor: K | None = None
    for key in side:
        if key in common:
            anchor = key
        elif wanted(key):
            found.setdefault(anchor, []).append(key)
    return found


def _moved(before: Sequence[K], after: Sequence[K]) -> set[K]:
    """The fewest items that had to be put elsewhere."""
    place = {k: n for n, k in enumerate(after)}
    stayed = {before[n] for n in increasing([place[k] for k in before])}
    return set(before) - stayed


def _inserted(main: Sequence[K], extra: Sequence[K], kept: Set[K], *, before: bool) -> list[K]:
    """``main`` with what ``extra`` has beside it; ``before`` what ``main`` itself inserted at the same place."""
    known, shared = set(main), set(extra)
    behind: dict[K | None, list[K]] = {}
    anchor: K | None = None
    for key in extra:
        if key in known:
            anchor = key
        elif key in kept:
            behind.setdefault(anchor, []).append(key)
    result: list[K] = []
    waiting = behind.get(None, [])
    for key in main:
        if before or key in shared:
            result += waiting
            waiting = []
        result.append(key)
        waiting = [*waiting, *behind.get(key, [])]
    return [*result, *waiting]


def _both_inserted(base: Sequence[K], this: Sequence[K], other: Sequence[K], kept: Set[K]) -> int:
    """Places where both sides have new items."""
    known = set(base)
    places: list[set[K | None]] = []
    for mine, theirs in ((this, set(other)), (other, set(this))):
        anchor: K | None = None
        found: set[K | None] = set()
        for key in mine:
            if key in known:
                anchor = key
            elif key in kept and key not in theirs:
                found.add(anchor)
        places.append(found)
    return len(places[0] & places[1])
