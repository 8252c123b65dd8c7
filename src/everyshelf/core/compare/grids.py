"""Two sheets laid on each other: columns first, then rows, so that one inserted row is one inserted row.

Columns are aligned by what they hold: a global alignment by dynamic programming over the overlap of their contents
(Needleman and Wunsch, J. Mol. Biol. 48, 1970). Rows are aligned by equal content (see ``sequence``), then within each
gap by a column that identifies them, then by likeness; what is left and equal elsewhere has moved.
"""

from __future__ import annotations

import itertools
from bisect import bisect_right
from collections import defaultdict
from collections.abc import Hashable, Sequence
from dataclasses import dataclass, field

from everyshelf.core.compare.sequence import align, increasing
from everyshelf.core.formats.workbooks import CellValue, Sheet
from everyshelf.core.kinds.spreadsheet import header_row

_SAMPLE_ROWS = 300
_MOST_COLUMNS = 250  # beyond that columns are taken as they are numbered
_LEAST_OVERLAP = 0.3
_LEAST_LIKE = 0.5
_LEAST_ALONE = 0.2
_MOST_PAIRS = 40_000  # of one gap, compared by likeness
_KEY_SHARE = 0.8
_FEW_CELLS = 2

Pair = tuple[int, int]
Held = dict[int, tuple[str, CellValue]]  # column in the newer version -> what counts of its cell


class Places:
    """Where rows or columns went: the numbers of those that were matched, and for the others the nearest one before."""

    def __init__(self, pairs: list[Pair]) -> None:
        self._exact = dict(pairs)
        self._known = sorted(self._exact)

    def get(self, number: int, default: int = 0) -> int:
        """The new number of an old one."""
        if number in self._exact:
            return self._exact[number]
        at = bisect_right(self._known, number) - 1
        return self._exact[self._known[at]] + number - self._known[at] if at >= 0 else number


@dataclass
class Laid:
    """Numbers of matched rows and columns, of those only one version has, and of rows that stand elsewhere now."""

    columns: list[Pair]
    columns_gone: list[int]
    columns_come: list[int]
    rows: list[Pair]
    rows_gone: list[int]
    rows_come: list[int]
    moved: set[int] = field(default_factory=set)  # numbers in the newer version
    columns_moved: bool = False
    key: int | None = None  # the column, in the newer version, that told rows apart
    header: int | None = None  # the row, in the newer version, that names the columns


def lay(before: Sheet, after: Sheet) -> Laid:
    """Rows and columns of two versions of one sheet, aligned."""
    columns, moved = _columns(before, after)
    return _Rows(before, after, columns, columns_moved=moved).laid()


# --- columns ---------------------------------------------------------------------


def _columns(before: Sheet, after: Sheet) -> tuple[list[Pair], bool]:
    old, new = _contents(before), _contents(after)
    if set(old) == set(new) and (max(old, default=0) > _MOST_COLUMNS or all(old[c] == new[c] for c in old)):
        return [(c, c) for c in sorted(old)], False
    if max(len(old), len(new)) > _MOST_COLUMNS:
        return [(c, c) for c in sorted(old.keys() & new.keys())], False
    pairs = _best_alignment(sorted(old), sorted(new), old, new)
    known_old, known_new = {a for a, _ in pairs}, {b for _, b in pairs}
    left_old = [c for c in sorted(old) if c not in known_old]
    left_new = [c for c in sorted(new) if c not in known_new]
    moved = []
    for a in left_old:
        near = [(o, -b) for b in left_new if (o := _overlap(old[a], new[b])) >= _LEAST_LIKE]
        if near:
            b = -max(near)[1]
            moved.append((a, b))
            left_new.remove(b)
    return sorted([*pairs, *moved], key=lambda pair: pair[1]), bool(moved)


def _contents(sheet: Sheet) -> dict[int, frozenset[Hashable]]:
    held: dict[int, set[Hashable]] = defaultdict(set)
    for number in itertools.islice(sheet.rows, _SAMPLE_ROWS):
        for column, cell in sheet.rows[number].items():
            held[column].add(cell.content)
    for row in itertools.islice(sheet.rows.values(), _SAMPLE_ROWS, None):
        for column in row:
            held[column]
    return {column: frozenset(values) for column, values in held.items()}


def _overlap(old: frozenset[Hashable], new: frozenset[Hashable]) -> float:
    """Shared contents over all contents (Jaccard)."""
    if not old and not new:
        return _LEAST_OVERLAP
    return len(old & new) / len(old | new)


def _best_alignment(
    old: list[int], new: list[int], held_old: dict[int, frozenset[Hashable]], held_new: dict[int, frozenset[Hashable]]
) -> list[Pair]:
    alike = [[_overlap(held_old[a], held_new[b]) for b in new] for a in old]
    best = [[0.0] * (len(new) + 1) for _ in range(len(old) + 1)]
    for i in range(len(old) - 1, -1, -1):
        for j in range(len(new) - 1, -1, -1):
            # Equal numbers tip the scale between columns that are equally alike.
            near = alike[i][j] + (0.01 if old[i] == new[j] else 0.0)
            taken = near + best[i + 1][j + 1] if alike[i][j] >= _LEAST_OVERLAP else -1.0
            best[i][j] = max(best[i + 1][j], best[i][j + 1], taken)
    pairs, i, j = [], 0, 0
    while i < len(old) and j < len(new):
        if best[i][j] == best[i + 1][j]:
            i += 1
        elif best[i][j] == best[i][j + 1]:
            j += 1
        else:
            pairs.append((old[i], new[j]))
            i, j = i + 1, j + 1
    return _filled(pairs, old, new)


def _filled(pairs: list[Pair], old: list[int], new: list[int]) -> list[Pair]:
    """As many columns left between two pairs on both sides: they were rewritten, not exchanged."""
    bounds = [(0, 0), *pairs, (10**6, 10**6)]
    result = list(pairs)
    for (a, b), (c, d) in itertools.pairwise(bounds):
        gap_old, gap_new = [x for x in old if a < x < c], [y for y in new if b < y < d]
        if gap_old and len(gap_old) == len(gap_new):
            result.extend(zip(gap_old, gap_new, strict=True))
    return sorted(result)


# --- rows ------------------------------------------------------------------------


class _Rows:
    def __init__(self, before: Sheet, after: Sheet, columns: list[Pair], *, columns_moved: bool) -> None:
        self._before, self._after, self._columns = before, after, columns
        self._columns_moved = columns_moved
        self._old, self._new = list(before.rows), list(after.rows)
        to_new = dict(columns)
        known = set(to_new.values())
        self._held_old = [{to_new[c]: v.content for c, v in before.rows[r].items() if c in to_new} for r in self._old]
        self._held_new = [{c: v.content for c, v in after.rows[r].items() if c in known} for r in self._new]

    def laid(self) -> Laid:
        one, other = ([_in_order(h) for h in side] for side in self._sides())
        pairs = align(one, other)
        key = self._key()
        gaps = list(_gaps(pairs, len(one), len(other)))
        for gap_old, gap_new in gaps:
            pairs += self._in_gap(gap_old, gap_new, key)
        known_old, known_new = {a for a, _ in pairs}, {b for _, b in pairs}
        left_old = [i for i in range(len(one)) if i not in known_old]
        left_new = [j for j in range(len(other)) if j not in known_new]
        moved = self._elsewhere(one, other, left_old, left_new, key)
        gone, come = {i for i, _ in moved}, {j for _, j in moved}
        return self._result(
            sorted([*pairs, *moved], key=lambda pair: pair[1]),
            [i for i in left_old if i not in gone],
            [j for j in left_new if j not in come],
            come,
            key,
        )

    def _result(self, pairs: list[Pair], gone: list[int], come: list[int], moved: set[int], key: int | None) -> Laid:
        known_old, known_new = {a for a, _ in self._columns}, {b for _, b in self._columns}
        return Laid(
            columns=self._columns,
            columns_gone=sorted({c for row in self._before.rows.values() for c in row} - known_old),
            columns_come=sorted({c for row in self._after.rows.values() for c in row} - known_new),
            rows=[(self._old[i], self._new[j]) for i, j in pairs],
            rows_gone=[self._old[i] for i in gone],
            rows_come=[self._new[j] for j in come],
            moved={self._new[j] for j in moved},
            columns_moved=self._columns_moved,
            key=key,
            header=header_row(self._after),
        )

    def _key(self) -> int | None:
        """The first column whose values tell nearly all rows apart, in both versions."""
        for _, column in self._columns:
            if all(self._tells(side, column) for side in (self._held_old, self._held_new)):
                return column
        return None

    def _tells(self, side: list[Held], column: int) -> bool:
        values = [h[column][1] for h in side if column in h and h[column][0] == ""]
        texts = [v for v in values if not isinstance(v, float)]
        return len(texts) >= max(2, _KEY_SHARE * len(side)) and len(set(texts)) == len(texts)

    def _in_gap(self, gap_old: range, gap_new: range, key: int | None) -> list[Pair]:
        pairs: list[Pair] = []
        if not gap_old or not gap_new:
            return pairs
        if key is not None:
            place = {self._held_new[j][key]: j for j in gap_new if key in self._held_new[j]}
            found = [(i, place[v]) for i in gap_old if (v := self._held_old[i].get(key)) in place]
            pairs = [found[k] for k in increasing([j for _, j in found])]
        for rest_old, rest_new in _between(pairs, gap_old, gap_new):
            if rest_old and rest_new and len(rest_old) * len(rest_new) <= _MOST_PAIRS:
                pairs += self._by_likeness(rest_old, rest_new, key) or self._in_place(rest_old, rest_new)
        return pairs

    def _in_place(self, old: range, new: range) -> list[Pair]:
        """A row of hardly a cell, alone where it stood: rewritten."""
        alone = len(old) == len(new) == 1 and self._old[old[0]] == self._new[new[0]]
        small = alone and max(len(self._held_old[old[0]]), len(self._held_new[new[0]])) <= _FEW_CELLS
        return [(old[0], new[0])] if small else []

    def _by_likeness(self, old: range, new: range, key: int | None) -> list[Pair]:
        alone = len(old) == len(new) == 1
        least = _LEAST_ALONE if alone else _LEAST_LIKE
        found = []
        for i, j in itertools.product(old, new):
            alike = _alike(self._held_old[i], self._held_new[j])
            other_key = key is not None and self._held_old[i].get(key) != self._held_new[j].get(key)
            # Rows of two keys are two rows, unless everything else agrees.
            if alike >= (max(least, _LEAST_LIKE) if other_key else least):
                found.append((-alike, abs((i - old[0]) - (j - new[0])), i, j))
        taken_old: set[int] = set()
        taken_new: set[int] = set()
        pairs: list[Pair] = []
        for _, _, i, j in sorted(found):
            if i not in taken_old and j not in taken_new:
                pairs.append((i, j))
                taken_old.add(i)
                taken_new.add(j)
        pairs.sort()
        return [pairs[k] for k in increasing([j for _, j in pairs])]

    def _elsewhere(
        self, one: Sequence[Hashable], other: Sequence[Hashable], old: list[int], new: list[int], key: int | None
    ) -> list[Pair]:
        """What is left and equal, or has the same key, has moved."""
        pairs: list[Pair] = []
        keys_old, keys_new = ([h.get(key) if key is not None else None for h in s] for s in self._sides())
        for tell_old, tell_new in ((one, other), (keys_old, keys_new)):
            taken_old, taken_new = {i for i, _ in pairs}, {j for _, j in pairs}
            places: dict[Hashable, list[int]] = defaultdict(list)
            for j in new:
                if j not in taken_new and tell_new[j] is not None:
                    places[tell_new[j]].append(j)
            for i in old:
                told = tell_old[i] if i not in taken_old else None
                if told is not None and places.get(told):
                    pairs.append((i, places[told].pop(0)))
        return pairs

    def _sides(self) -> tuple[list[Held], list[Held]]:
        return self._held_old, self._held_new


def _in_order(cells: Held) -> tuple[tuple[int, object], ...]:
    return tuple((column, cells[column]) for column in sorted(cells))


def _alike(old: Held, new: Held) -> float:
    total = len(old) + len(new)
    return 2 * sum(new.get(c) == v for c, v in old.items()) / total if total else 1.0


def _gaps(pairs: list[Pair], old: int, new: int) -> list[tuple[range, range]]:
    bounds = [(-1, -1), *pairs, (old, new)]
    found = [(range(a + 1, c), range(b + 1, d)) for (a, b), (c, d) in itertools.pairwise(bounds)]
    return [gap for gap in found if gap[0] and gap[1]]


def _between(pairs: list[Pair], old: range, new: range) -> list[tuple[range, range]]:
    bounds = [(old.start - 1, new.start - 1), *pairs, (old.stop, new.stop)]
    return [(range(a + 1, c), range(b + 1, d)) for (a, b), (c, d) in itertools.pairwise(bounds)]
