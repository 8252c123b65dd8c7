"""Notebook against notebook: cells by their ids where both versions kept them, else by type and source.

A cell whose text became several cells in a row was split, several that became one were merged; neither changes what
runs. The order of cells is content.
"""

from __future__ import annotations

import re
from bisect import bisect_left
from collections import defaultdict
from contextlib import nullcontext
from itertools import accumulate

from everyshelf.core.compare.outlines import Run
from everyshelf.core.compare.same import likeness
from everyshelf.core.compare.sequence import align, increasing
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.origins.steps import Step
from everyshelf.core.origins.trail import Trail
from everyshelf.core.outline.model import Finding, Outline, Part, child_path

_LEAST_LIKE = 0.5
_LEAST_ALONE = 0.2  # one against one between equal neighbours
_FEW_LINES = 4
_STABLE_IDS = 0.5
_MOST_PAIRS = 250_000

Pair = tuple[int, int]


def compare_notebooks(before: Outline, after: Outline, table: KindTable) -> list[Finding]:
    """All findings between two notebook outlines."""
    return _compared(Run(table), before.root, after.root)


def carry_notebooks(before: Outline, after: Outline, table: KindTable) -> Step:
    """What a notebook carried over from the version before."""
    trail = Trail()
    _compared(Run(table, trail=trail), before.root, after.root)
    return trail.finished()


def _compared(run: Run, old: Part, new: Part) -> list[Finding]:
    run.fields(old, new, "", cosmetic=False)
    run.children(old, new, "", cosmetic=False, leave_out="cell")
    _Cells(run, _cells(old), _cells(new)).compare()
    return run.finished()


def _cells(root: Part) -> list[Part]:
    """The cells, which come before all other children."""
    return [p for p in root.children() if p.type == "cell"]


def _lines(cell: Part) -> list[str]:
    return [line.rstrip() for line in str(cell.fields.get("source", "")).splitlines() if line.strip()]


class _Cells:
    def __init__(self, run: Run, before: list[Part], after: list[Part]) -> None:
        self._run, self._before, self._after = run, before, after
        self._lines_old, self._lines_new = ([_lines(cell) for cell in cells] for cells in (before, after))
        self._ids = self._stable_ids()
        # Cells told as split or merged: nothing else is said of them.
        self._told_old: set[int] = set()
        self._told_new: set[int] = set()

    def _stable_ids(self) -> bool:
        old, new = ([c.fields.get("id") for c in cells] for cells in (self._before, self._after))
        if not old or not new or None in old or None in new:
            return False
        unique = len(set(old)) == len(old) and len(set(new)) == len(new)
        return unique and len(set(old) & set(new)) >= _STABLE_IDS * min(len(old), len(new))

    def compare(self) -> None:
        pairs = self._by_id() if self._ids else self._by_source()
        left_old = sorted(set(range(len(self._before))) - {i for i, _ in pairs})
        left_new = sorted(set(range(len(self._after))) - {j for _, j in pairs})
        pairs, left_old, left_new = self._splits(pairs, left_old, left_new)
        if not self._ids:
            more = self._moved(left_old, left_new)
            known = {a for a, _ in more}
            more += self._alike(pairs, [i for i in left_old if i not in known], left_new)
            pairs = sorted({*pairs, *more})
        self._tell(pairs)

    # --- matching ----------------------------------------------------------

    def _by_id(self) -> list[Pair]:
        place = {c.fields["id"]: j for j, c in enumerate(self._after)}
        return [(i, place[c.fields["id"]]) for i, c in enumerate(self._before) if c.fields["id"] in place]

    def _content(self, cell: Part) -> tuple[str, str]:
        return str(cell.fields.get("cell_type")), "\n".join(_lines(cell))

    def _by_source(self) -> list[Pair]:
        return align([self._content(c) for c in self._before], [self._content(c) for c in self._after])

    def _moved(self, left_old: list[int], left_new: list[int]) -> list[Pair]:
        places: dict[tuple[str, str], list[int]] = defaultdict(list)
        for j in left_new:
            places[self._content(self._after[j])].append(j)
        found = []
        for i in left_old:
            content = self._content(self._before[i])
            if content[1] and places.get(content):
                found.append((i, places[content].pop(0)))
        return found

    def _alike(self, pairs: list[Pair], left_old: list[int], left_new: list[int]) -> list[Pair]:
        """Within each gap the likeliest pairs, in order."""
        taken = {j for _, j in pairs}
        bounds_old, bounds_new = [i for i, _ in sorted(pairs)], sorted(taken)
        gaps: dict[int, tuple[list[int], list[int]]] = defaultdict(lambda: ([], []))
        for i in left_old:
            gaps[bisect_left(bounds_old, i)][0].append(i)
        for j in left_new:
            if j not in taken:
                gaps[bisect_left(bounds_new, j)][1].append(j)
        return [pair for old, new in gaps.values() for pair in self._alike_in(old, new)]

    def _alike_in(self, old: list[int], new: list[int]) -> list[Pair]:
        if not old or not new:
            return []
        least = _LEAST_ALONE if len(old) == len(new) == 1 else _LEAST_LIKE
        texts = [{k: _Text(cells[k]) for k in places} for cells, places in ((self._before, old), (self._after, new))]
        scored = sorted(
            (-texts[0][i].likeness(texts[1][j]), abs(a - b), i, j)
            for a, i in enumerate(old)
            for b, j in _near(a, len(old), new)
            if self._before[i].fields.get("cell_type") == self._after[j].fields.get("cell_type")
        )
        found: list[Pair] = []
        for score, _, i, j in scored:
            if -score < least:
                break
            at = bisect_left(found, (i, j))
            before, after = found[at - 1 : at], found[at : at + 1]
            if all(a < i and b < j for a, b in before) and all(i < a and j < b for a, b in after):
                found.insert(at, (i, j))
        return found

    def _splits(
        self, pairs: list[Pair], left_old: list[int], left_new: list[int]
    ) -> tuple[list[Pair], list[int], list[int]]:
        """Cells that became several, and several that became one, told as such and taken out."""
        kept, free_old, free_new = dict(pairs), set(left_old), set(left_new)
        changed = [(i, j) for i, j in pairs if self._lines_old[i] != self._lines_new[j]]
        cells = _Runs(self._lines_new)
        for i in [*left_old, *(i for i, _ in changed)]:
            run = cells.of(self._lines_old[i], free_new, kept.get(i))
            if run:
                self._say_split(run, split=True)
                self._carry([i], run)
                self._told_old.add(i)
                self._told_new.update(run)
                kept.pop(i, None)
                free_new.difference_update(run)
                free_old.discard(i)
        back = {j: i for i, j in kept.items()}
        cells = _Runs(self._lines_old)
        for j in [*sorted(free_new), *(j for i, j in changed if back.get(j) == i)]:
            run = cells.of(self._lines_new[j], free_old, back.get(j))
            if run:
                self._say_split(run, split=False, place=j)
                self._carry(run[:1], [j])
                self._told_new.add(j)
                self._told_old.update(run)
                kept.pop(back.get(j, -1), None)
                free_old.difference_update(run)
                free_new.discard(j)
        return sorted(kept.items()), sorted(free_old), sorted(free_new)

    # --- telling -----------------------------------------------------------

    def _path(self, place: int, cell: Part) -> str:
        return child_path("", cell, str(cell.fields["id"]) if self._ids else f"#{place + 1}")

    def _carry(self, old: list[int], new: list[int]) -> None:
        """A split or merged cell says what it said."""
        if self._run.trail is not None:
            for j in new:
                self._run.trail.looks_of(old[0], j)

    def _say_split(self, run: list[int], *, split: bool, place: int = 0) -> None:
        here = run[0] if split else place
        part = self._after[here]
        count = len(run)
        self._run.say(
            "changed",
            self._path(here, part),
            part,
            field="cells",
            before=1 if split else count,
            after=count if split else 1,
            cosmetic=True,
            detail=f"split into {count} cells" if split else f"merged from {count} cells",
        )

    def _tell(self, pairs: list[Pair]) -> None:
        targets = [j for _, j in pairs]
        kept = set(increasing(targets))
        told_old = {i for i, _ in pairs} | self._told_old
        told_new = set(targets) | self._told_new
        for place, (i, j) in enumerate(pairs):
            path = self._path(j, self._after[j])
            trail = self._run.trail
            if place not in kept:
                self._run.say("moved", path, self._after[j], before=i + 1, after=j + 1, cosmetic=False)
            with trail.pair(i, j) if trail is not None else nullcontext():
                self._run.parts(self._before[i], self._after[j], path, cosmetic=False)
            if trail is not None and place not in kept:
                trail.moved(i, j)
        for i in sorted(set(range(len(self._before))) - told_old):
            self._run.say_removed(self._before[i], self._path(i, self._before[i]), cosmetic=False, place=i)
        for j in sorted(set(range(len(self._after))) - told_new):
            self._run.say_added(self._after[j], self._path(j, self._after[j]), cosmetic=False, place=j)


def _near(place: int, count: int, other: list[int]) -> list[tuple[int, int]]:
    """Those of the other side, with their places, that are compared with one of ``count``: all where the two are few,
    else the ones about as far down."""
    most = max(_MOST_PAIRS // count, 1)
    start = max(0, min(place * len(other) // count - most // 2, len(other) - most))
    return list(enumerate(other[start : start + most], start))


class _Runs:
    """Cells in a row whose lines together are those of one cell, found by the hash of the first one's lines."""

    def __init__(self, cells: list[list[str]]) -> None:
        self._cells = cells
        self._starts: dict[int, list[int]] = defaultdict(list)
        for place, lines in enumerate(cells):
            if lines:
                *_, whole = accumulate(lines, _chained, initial=0)
                self._starts[whole].append(place)

    def of(self, lines: list[str], free: set[int], more: int | None) -> list[int]:
        """At least two in a row of ``free`` cells and the one ``more``, the first run there is; else none."""
        starts = {place for head in accumulate(lines[:-1], _chained, initial=0) for place in self._starts.get(head, ())}
        for start in sorted(starts):
            run: list[int] = []
            have = 0
            place = start
            while have < len(lines) and (place in free or place == more):
                cell = self._cells[place]
                if lines[have : have + len(cell)] != cell:
                    break
                run.append(place)
                have += len(cell)
                place += 1
            if len(run) > 1 and have == len(lines):
                return run
        return []


def _chained(before: int, line: str) -> int:
    return hash((before, line))


class _Text:
    """A cell's source as its lines, and as its words where a line is too coarse a measure."""

    def __init__(self, cell: Part) -> None:
        lines = _lines(cell)
        self.lines = frozenset(line.strip() for line in lines)
        self.words = frozenset(re.findall(r"\w+|[^\w\s]", " ".join(lines)))
        self.is_short = len(lines) < _FEW_LINES

    def likeness(self, other: _Text) -> float:
        """By lines; where one side is short by words too, whichever says more."""
        by_lines = likeness(self.lines, other.lines)
        return max(by_lines, likeness(self.words, other.words)) if self.is_short or other.is_short else by_lines
