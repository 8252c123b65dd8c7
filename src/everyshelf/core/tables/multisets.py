"""Rows without a key: how often each different row comes on either side, and which of what is left are one row changed.

1. Rows are counted by a 64-bit hash of their cells; what both sides have equally often is the same, in whatever order.
2. Of what is left, rows pair up whose numbers agree when written with fewer digits (noise, rounding), then rows that
   agree in all cells but one, then, where few are left, rows that agree in most cells.
3. Pairs are judged cell by cell, as rows under a key are; what found no partner came or went.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from everyshelf.core.tables.changes import RowChanges
from everyshelf.core.tables.columns import Source
from everyshelf.core.tables.differing import Differing
from everyshelf.core.tables.engine import Engine
from everyshelf.core.tables.expressions import Pair, plain_text
from everyshelf.core.tables.keep import Keep
from everyshelf.core.tables.options import TableOptions
from everyshelf.core.tables.rows import RowRun

_DIGITS = (6, 4, 3)  # significant digits in which numbers are written for pairing: noise first, then rounding
_MOST_EXPLODED = 40_000_000  # cells of rows left over that are looked at for all but one
_MOST_ALIKE = 400  # rows left over on a side that are compared each with each
_LEAST_ALIKE = 0.6


def as_multisets(
    engine: Engine,
    before: Source,
    after: Source,
    pairs: Sequence[Pair],
    options: TableOptions,
    keep: Keep | None = None,
) -> RowChanges:
    """What became of rows that no key tells apart: the same, changed in some cells, added, removed."""
    differing = _Unkeyed(engine, before, after, pairs).differing()
    return RowRun(engine, before, after, pairs, options).told(differing, keep or Keep())


class _Unkeyed:
    """``a`` and ``b`` are tables of the rows left over: number ``r``, and ``h0``, ``h1`` … of their cells for pairing."""

    def __init__(self, engine: Engine, before: Source, after: Source, pairs: Sequence[Pair]) -> None:
        self._engine, self._before, self._after, self._pairs = engine, before, after, pairs
        self._found = engine.name("paired")

    def differing(self) -> Differing:
        """Rows left over, with their partners; ``matched`` counts the same rows and the pairs."""
        run = self._engine.run
        run(f"CREATE TEMP TABLE {self._found} (ar BIGINT, br BIGINT)")
        all_old, all_new = self._hashed(self._before, old=True), self._hashed(self._after, old=False)
        odd = self._engine.name("odd")
        run(
            f"CREATE TEMP TABLE {odd} AS SELECT h, coalesce(o, 0) AS o, coalesce(n, 0) AS n FROM "
            f"(SELECT h, count(*) AS o FROM {all_old} GROUP BY h) x FULL JOIN "
            f"(SELECT h, count(*) AS n FROM {all_new} GROUP BY h) y USING (h)"
        )
        same = self._engine.row(f"SELECT coalesce(sum(least(o, n)), 0) FROM {odd}")[0]
        left = self._left(all_old, all_new, odd, "o - n"), self._left(all_new, all_old, odd, "n - o")
        for table in (all_old, all_new, odd):
            run(f"DROP TABLE {table}")
        if all(self._count(table) for table in left):
            self._pair(*left)
        paired = self._count(self._found)
        for table, row in zip(left, ("ar", "br"), strict=True):
            run(f"INSERT INTO {self._found} ({row}) SELECT r FROM {table}")
            run(f"DROP TABLE {table}")
        places = list(range(len(self._pairs)))
        return Differing(self._found, int(same) + paired, places, is_checked=True)

    def _count(self, table: str) -> int:
        return int(self._engine.row(f"SELECT count(*) FROM {table}")[0])

    def _hashed(self, source: Source, *, old: bool) -> str:
        """Row number and hash of the whole row, for all rows of a side."""
        values = ", ".join((p.old_value if old else p.new_value)("t") for p in self._pairs)
        table = self._engine.name("hashed")
        self._engine.run(f"CREATE TEMP TABLE {table} AS SELECT r, hash({values}) AS h FROM {source.relation} t")
        return table

    def _left(self, own: str, other: str, odd: str, more: str) -> str:
        """Rows that one side has more often: of several equal ones those that do not stand where the other side has one."""
        table = self._engine.name("left")
        self._engine.run(
            f"CREATE TEMP TABLE {table} AS SELECT r FROM (SELECT s.r AS r, {more} AS surplus, row_number() OVER "
            f"(PARTITION BY s.h ORDER BY (t.h IS NOT DISTINCT FROM s.h)::INT, s.r) AS place FROM {own} s "
            f"JOIN {odd} ON s.h = {odd}.h AND {more} > 0 LEFT JOIN {other} t ON t.r = s.r) WHERE place <= surplus"
        )
        return table

    # --- pairing what is left ------------------------------------------------

    def _pair(self, left_old: str, left_new: str) -> None:
        width = len(self._pairs)
        if any(_is_decimal(p) for p in self._pairs):
            for digits in _DIGITS:
                self._by(left_old, left_new, digits)
        if width > 1:
            rows = self._count(left_old) + self._count(left_new)
            if rows * width <= _MOST_EXPLODED:
                self._by_all_but_one(left_old, left_new)
            self._by_likeness(left_old, left_new)

    def _cells(self, source: Source, left: str, digits: int, *, old: bool) -> str:
        """SELECT of the rows left over with the hashes of their cells, numbers in so many significant digits."""
        hashes = ", ".join(f"hash({n}, {_rounded(p, digits, old=old)}) AS h{n}" for n, p in enumerate(self._pairs))
        return f"SELECT t.r AS r, {hashes} FROM {source.relation} t JOIN {left} l ON t.r = l.r"

    def _sides(self, left_old: str, left_new: str, digits: int) -> tuple[str, str]:
        old = self._cells(self._before, left_old, digits, old=True)
        return old, self._cells(self._after, left_new, digits, old=False)

    def _by(self, left_old: str, left_new: str, digits: int) -> None:
        """Rows that are equal with fewer digits; of several equal ones those at the same place, then in their order."""
        old, new = (f"SELECT r, {self._mixed()} AS k FROM ({s})" for s in self._sides(left_old, left_new, digits))
        self._take(f"SELECT x.r AS ar, y.r AS br FROM ({old}) x JOIN ({new}) y USING (k, r)", left_old, left_new)
        ranked = [
            f"SELECT r, k, row_number() OVER (PARTITION BY k ORDER BY r) AS place FROM ({side})" for side in (old, new)
        ]
        joined = f"SELECT x.r AS ar, y.r AS br FROM ({ranked[0]}) x JOIN ({ranked[1]}) y USING (k, place)"
        self._take(joined, left_old, left_new)

    def _mixed(self) -> str:
        """The hashes of all cells as one; each can be taken out again."""
        mixed = "h0"
        for n in range(1, len(self._pairs)):
            mixed = f"xor({mixed}, h{n})"
        return mixed

    def _by_all_but_one(self, left_old: str, left_new: str) -> None:
        """Rows that are equal in all cells but one; of several the nearest."""
        width = len(self._pairs)
        without = ", ".join(f"xor(m, h{n})" for n in range(width))
        ranked = []
        for side in self._sides(left_old, left_new, _DIGITS[1]):
            mixed = f"SELECT *, {self._mixed()} AS m FROM ({side})"
            each = f"SELECT r, unnest(range({width})) AS c, unnest([{without}]) AS k FROM ({mixed})"
            ranked.append(f"SELECT r, c, k, row_number() OVER (PARTITION BY c, k ORDER BY r) AS place FROM ({each})")
        joined = f"SELECT x.r AS ar, y.r AS br FROM ({ranked[0]}) x JOIN ({ranked[1]}) y USING (c, k, place)"
        nearest = "ORDER BY abs(ar - br), ar, br"
        once = f"SELECT ar, br FROM ({joined}) QUALIFY row_number() OVER (PARTITION BY ar {nearest}) = 1"
        self._take(
            f"SELECT ar, br FROM ({once}) QUALIFY row_number() OVER (PARTITION BY br {nearest}) = 1", left_old, left_new
        )

    def _by_likeness(self, left_old: str, left_new: str) -> None:
        """Rows that agree in most cells, the likest and nearest first; only where few are left."""
        if max(self._count(left_old), self._count(left_new)) > _MOST_ALIKE:
            return
        old, new = (
            self._engine.rows(f"SELECT * FROM ({side}) ORDER BY r")
            for side in self._sides(left_old, left_new, _DIGITS[1])
        )
        if not old or not new:
            return
        one, other = (np.array([row[1:] for row in rows], dtype=np.uint64) for rows in (old, new))
        agreeing = (one[:, None, :] == other[None, :, :]).mean(axis=2)
        places = np.argwhere(agreeing >= _LEAST_ALIKE)
        order = sorted(places.tolist(), key=lambda p: (-agreeing[p[0], p[1]], abs(old[p[0]][0] - new[p[1]][0]), p))
        taken: list[tuple[int, int]] = []
        seen: tuple[set[int], set[int]] = (set(), set())
        for i, j in order:
            if i not in seen[0] and j not in seen[1]:
                seen[0].add(i)
                seen[1].add(j)
                taken.append((old[i][0], new[j][0]))
        if taken:
            values = ", ".join(f"({a}, {b})" for a, b in taken)
            self._take(f"SELECT ar, br FROM (VALUES {values}) AS v(ar, br)", left_old, left_new)

    def _take(self, pairs: str, left_old: str, left_new: str) -> None:
        """These rows are pairs, and no longer left."""
        fresh = self._engine.name("fresh")
        self._engine.run(f"CREATE TEMP TABLE {fresh} AS {pairs}")
        self._engine.run(f"INSERT INTO {self._found} SELECT ar, br FROM {fresh}")
        for table, row in ((left_old, "ar"), (left_new, "br")):
            self._engine.run(f"DELETE FROM {table} WHERE r IN (SELECT {row} FROM {fresh})")
        self._engine.run(f"DROP TABLE {fresh}")


def _is_decimal(pair: Pair) -> bool:
    return "decimal" in (pair.before.family, pair.after.family)


def _rounded(pair: Pair, digits: int, *, old: bool) -> str:
    """The cell for pairing: a number with a fraction in so many significant digits, anything else as it is matched."""
    value = (pair.old_value if old else pair.new_value)("t")
    if not _is_decimal(pair):
        return value
    column, place = (pair.before, pair.old_place) if old else (pair.after, pair.new_place)
    number = f"TRY_CAST({plain_text(column, f't.c{place}')} AS DOUBLE)"
    shortened = f"printf('%.{digits - 1}e', {number})"
    return f"CASE WHEN {number} IS NULL THEN CAST({value} AS VARCHAR) ELSE {shortened} END"
