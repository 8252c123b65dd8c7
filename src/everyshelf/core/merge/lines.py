"""Three texts merged by lines.

The base is aligned with each side (``compare.sequence.align``); what both changed in the same lines is a conflict, what
they changed in different lines combines, neighbours too (after Khanna, Kunal and Pierce, "A formal investigation of
diff3", FSTTCS 2007, but a region ends where a side's own change ends, not where both sides agree again).
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

from everyshelf.core.compare.sequence import align


@dataclass(frozen=True)
class Piece:
    """A stretch of the result: lines that are decided, or what base and both sides have there."""

    lines: tuple[str, ...] = ()
    base: tuple[str, ...] = ()
    target: tuple[str, ...] = ()
    source: tuple[str, ...] = ()
    start: int = 0  # line of the base, from 0
    clash: bool = False
    changed: int = 0  # sides whose change is in it


@dataclass(frozen=True)
class _Change:
    """Lines ``low`` to ``high`` of the base became ``lines``."""

    low: int
    high: int
    lines: tuple[str, ...]


def merge_lines(base: Sequence[str], target: Sequence[str], source: Sequence[str]) -> list[Piece]:
    """The result in pieces, in order; those with ``clash`` are conflicts."""
    pieces: list[Piece] = []
    at = 0
    for low, high, on_target, on_source in _regions(base, _changes(base, target), _changes(base, source)):
        if at < low:
            pieces.append(Piece(tuple(base[at:low])))
        pieces.append(_piece(base, low, high, on_target, on_source))
        at = high
    if at < len(base):
        pieces.append(Piece(tuple(base[at:])))
    return pieces


def _changes(base: Sequence[str], side: Sequence[str]) -> list[_Change]:
    pairs = [(-1, -1), *align(base, side), (len(base), len(side))]
    found = []
    for (a, b), (c, d) in itertools.pairwise(pairs):
        if c - a > 1 or d - b > 1:
            found += _line_by_line(_Change(a + 1, c, tuple(side[b + 1 : d])))
    return found


def _line_by_line(change: _Change) -> list[_Change]:
    """As many lines for as many: each stands for its own, so that a neighbour's change is no clash with it."""
    count = change.high - change.low
    if count < 2 or count != len(change.lines):
        return [change]
    return [_Change(change.low + k, change.low + k + 1, (line,)) for k, line in enumerate(change.lines)]


Region = tuple[int, int, list[_Change], list[_Change]]


def _regions(base: Sequence[str], on_target: list[_Change], on_source: list[_Change]) -> list[Region]:
    """Changes of both sides; those that overlap are in one region."""
    tagged = [(*_extent(base, c), side, c) for side, changes in enumerate((on_target, on_source)) for c in changes]
    groups: list[tuple[int, int, list[tuple[int, _Change]]]] = []
    for low, high, side, change in sorted(tagged, key=lambda t: (t[0], t[1], t[2])):
        if groups and (low < groups[-1][1] or _insert_both(groups[-1][2][-1], side, change)):
            start, end, held = groups.pop()
            groups.append((start, max(end, high), [*held, (side, change)]))
        else:
            groups.append((low, high, [(side, change)]))
    regions: list[Region] = []
    for _, _, held in groups:
        sides = [[c for side, c in held if side == which] for which in (0, 1)]
        if not all(sides):
            regions += [(c.low, c.high, sides[0] and [c], sides[1] and [c]) for c in (*sides[0], *sides[1])]
            continue
        regions.append((min(c.low for _, c in held), max(c.high for _, c in held), sides[0], sides[1]))
    return regions


def _insert_both(last: tuple[int, _Change], side: int, change: _Change) -> bool:
    """Two insertions at one place."""
    return last[0] != side and last[1].low == last[1].high == change.low == change.high


def _extent(base: Sequence[str], change: _Change) -> tuple[int, int]:
    """The lines a change may be said to be about: an insertion or removal among equal lines could as well stand
    before or behind them."""
    low, high = change.low, change.high
    if low < high and change.lines:
        return low, high
    moving = list(change.lines) or list(base[low:high])
    up, rolled = low, moving
    while up > 0 and base[up - 1] == rolled[-1]:
        up, rolled = up - 1, [rolled[-1], *rolled[:-1]]
    down, rolled = high, moving
    while down < len(base) and base[down] == rolled[0]:
        down, rolled = down + 1, [*rolled[1:], rolled[0]]
    return up, down


def _piece(base: Sequence[str], low: int, high: int, on_target: list[_Change], on_source: list[_Change]) -> Piece:
    target, source = (_applied(base, low, high, changes) for changes in (on_target, on_source))
    was = tuple(base[low:high])
    if target == source:
        return Piece(target, was, target, source, low, changed=2)
    if not on_source:
        return Piece(target, was, target, source, low, changed=1)
    if not on_target:
        return Piece(source, was, target, source, low, changed=1)
    return Piece((), was, target, source, low, clash=True)


def _applied(base: Sequence[str], low: int, high: int, changes: list[_Change]) -> tuple[str, ...]:
    out: list[str] = []
    at = low
    for change in changes:
        out += [*base[at : change.low], *change.lines]
        at = change.high
    return (*out, *base[at:high])
