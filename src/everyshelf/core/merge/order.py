"""In which order the items of a list or map stand after a merge."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Sequence, Set
from dataclasses import dataclass
from typing import Generic, TypeVar

from everyshelf.core.compare.sequence import increasing

K = TypeVar("K", bound=Hashable)


@dataclass(frozen=True)
class Order(Generic[K]):
    """The order; the items that both sides put elsewhere; at how many places both inserted something."""

    keys: list[K]
    clash: frozenset[K]
    both_inserted: int


def merged_order(base: Sequence[K], target: Sequence[K], source: Sequence[K], kept: Set[K]) -> Order[K]:
    """All of ``kept`` in order.

    New items stand behind what they stood behind on their side; where both inserted at one place, the target's first.
    Where both put the same items elsewhere, the target's order stays, and that is a clash.
    """
    if base == target == source and len(base) == len(kept):
        return Order(list(base), frozenset(), 0)
    both = _both_inserted(base, target, source, kept)
    every = {*base, *kept}
    # What a side removed keeps its place until the end: new items of the other side may stand behind it.
    target, source = (_inserted(side, base, every, before=True) for side in (target, source))
    common = set(base)
    was: list[K] = [k for k in base if k in common]
    on_target: list[K] = [k for k in target if k in common]
    on_source: list[K] = [k for k in source if k in common]
    if on_target == was and on_source != was:
        found = _inserted(source, target, every, before=True)
        return Order([k for k in found if k in kept], frozenset(), both)
    main, clash = list(target), frozenset[K]()
    if on_source not in (was, on_target):
        moved: set[K] = _moved(was, on_source)
        clash = frozenset(moved & _moved(was, on_target))
        if not clash:
            main = _inserted([k for k in main if k not in moved], source, set(main), before=False)
    found = _inserted(main, source, every, before=False)
    return Order([k for k in found if k in kept], clash, both)


def replaced_by_both(
    base: Sequence[K], target: Sequence[K], source: Sequence[K]
) -> list[tuple[list[K], list[K], list[K]]]:
    """Stretches that both sides took out and put something else in the place of: what was there, and what each has."""
    common = set(base) & set(target) & set(source)
    known = set(base)
    present = {*target, *source}
    gone = _by_anchor(base, common, lambda k: k not in present)
    if not gone:
        return []
    on_target = _by_anchor(target, common, lambda k: k not in known)
    on_source = _by_anchor(source, common, lambda k: k not in known)
    return [
        (keys, on_target[a], on_source[a])
        for a, keys in gone.items()
        if a in on_target and a in on_source and on_target[a] != on_source[a]
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


def _both_inserted(base: Sequence[K], target: Sequence[K], source: Sequence[K], kept: Set[K]) -> int:
    """Places where both sides have new items."""
    known = set(base)
    places: list[set[K | None]] = []
    for side, opposite in ((target, set(source)), (source, set(target))):
        anchor: K | None = None
        found: set[K | None] = set()
        for key in side:
            if key in known:
                anchor = key
            elif key in kept and key not in opposite:
                found.add(anchor)
        places.append(found)
    return len(places[0] & places[1])
