"""Rows against rows by a key: every count exact, details bounded.

Which rows differ is found first, without taking their cells apart; then only those are looked at. Where a difference may
be one of spelling alone (texts that write numbers or dates, whole columns that were rounded) the differing cells, and
only those, are judged in a third step.
"""

from __future__ import annotations

from collections.abc import Sequence

from everyshelf.core.answers.tables import CellCounts, DifferingRow
from everyshelf.core.tables.aligned import by_alignment, can_align
from everyshelf.core.tables.changes import NoKeyError, RowChanges
from everyshelf.core.tables.columns import AT_ONCE, Source
from everyshelf.core.tables.differing import Differing
from everyshelf.core.tables.engine import Engine, literal
from everyshelf.core.tables.expressions import CHANGED, EQUAL, JUDGED, RESPELT, ROUNDED, TIED, Pair, plain_text, shown
from everyshelf.core.tables.joining import join_rows
from everyshelf.core.tables.keep import MOST_KEPT, Keep
from everyshelf.core.tables.kept import kept
from everyshelf.core.tables.options import TableOptions
from everyshelf.core.tables.spread import by_spreading

# Rounding is looked for in columns of which that share of cells differs, and explains a column if that share of the
# cells that differ are rounded values.
_ROUNDED_CELLS = 10
_ROUNDED_SHARE = 0.3


def by_key(
    engine: Engine,
    before: Source,
    after: Source,
    pairs: Sequence[Pair],
    key: Sequence[Pair],
    options: TableOptions,
    keep: Keep | None = None,
    expected: Sequence[int] = (),
) -> RowChanges:
    """Rows matched by ``key``; raises ``NoKeyError`` if it turns out not to tell every row from every other.

    ``expected``: places, among the columns that are no key, of those whose cells probably differ.
    """
    return KeyedRun(engine, before, after, pairs, key, options).compared(keep or Keep(), expected)


class RowRun:
    """Rows that differ, known by their numbers on both sides, looked at cell by cell."""

    def __init__(
        self, engine: Engine, before: Source, after: Source, cells: Sequence[Pair], options: TableOptions
    ) -> None:
        self._engine, self._before, self._after = engine, before, after
        self._options, self._cells = options, cells

    def told(self, differing: Differing, keep: Keep) -> RowChanges:
        """The counts and the rows to keep; uses the table of ``differing`` up."""
        matched = differing.matched + self._after.left_out
        result = RowChanges(self._after.row_count - matched, self._before.row_count - matched, 0, matched)
        looked = self._looked_at(differing)
        self._count(result, looked, differing.suspects, matched)
        if keep.first or keep.path:
            result.details = self._details(looked, differing.suspects, keep)
        for table in (differing.table, looked):
            self._engine.run(f"DROP TABLE {table}")
        return result

    # --- what differs in them ----------------------------------------------

    def _looked_at(self, differing: Differing) -> str:
        """The rows that differ with the cells that may (``o<n>`` before, ``w<n>`` after) and a state ``s<n>`` for each."""
        looked = self._engine.name("looked")
        wanted, read = ["p.ar AS ar", "p.br AS br"], []
        for n in differing.suspects:
            pair = self._cells[n]
            tolerance = self._options.tolerance(pair.name)
            if n in differing.seen and pair.is_plain(tolerance):
                # Different is changed, and nobody need look at the cells for that.
                wanted.append(f"(CASE WHEN p.d{n} THEN {CHANGED} ELSE {EQUAL} END)::UTINYINT AS s{n}")
                continue
            read.append(n)
            state = f"CASE WHEN p.ar IS NULL OR p.br IS NULL THEN {EQUAL} ELSE {pair.state(tolerance)} END"
            wanted += [f"({state})::UTINYINT AS s{n}", f"a.c{pair.old_place} AS o{n}", f"b.c{pair.new_place} AS w{n}"]
        self._engine.run(
            f"CREATE TEMP TABLE {looked} AS {self._both_sides(differing.table, read)} SELECT {', '.join(wanted)} "
            f"FROM {differing.table} p {'LEFT JOIN a ON a.r = p.ar LEFT JOIN b ON b.r = p.br' if read else ''}"
        )
        return looked

    def _both_sides(self, differing: str, read: Sequence[int]) -> str:
        """``a`` and ``b``: the cells of matched rows. Each side on its own first: few are wanted, and many are there."""
        if not read:
            return ""
        held = [f"m AS MATERIALIZED (SELECT ar, br FROM {differing} WHERE ar IS NOT NULL AND br IS NOT NULL)"]
        for source, row, name in ((self._before, "ar", "a"), (self._after, "br", "b")):
            pairs = [self._cells[n] for n in read]
            cells = ", ".join(
                f"t.c{place}" for place in sorted({p.old_place if name == "a" else p.new_place for p in pairs})
            )
            held.append(
                f"{name} AS MATERIALIZED (SELECT t.r, {cells} FROM {source.relation} t JOIN m ON t.r = m.{row})"
            )
        return f"WITH {', '.join(held)}"

    def _count(self, result: RowChanges, looked: str, suspects: Sequence[int], matched: int) -> None:
        counts = self._states(looked, suspects)
        judged = [n for n in suspects if self._cells[n].needs_judging and counts[n][CHANGED]]
        judged += [n for n in suspects if self._cells[n].is_decimal and _mostly(counts[n][CHANGED], matched)]
        if judged:
            self._judge(looked, judged)
            counts = self._states(looked, suspects)
        for n in suspects:
            pair, states = self._cells[n], counts[n]
            if states[ROUNDED] or states[TIED]:
                told = states[ROUNDED] + states[TIED]
                is_rounded = _mostly(told, max(matched, 1)) and states[TIED] <= states[ROUNDED]
                if is_rounded:
                    result.rounded.append(pair.name)
                taken_for = RESPELT if is_rounded else CHANGED
                self._engine.run(f"UPDATE {looked} SET s{n} = {taken_for} WHERE s{n} IN ({ROUNDED}, {TIED})")
                states[taken_for] += told
            if states[CHANGED] or states[RESPELT]:
                result.cells[pair.name] = CellCounts(changed=states[CHANGED], representation_only=states[RESPELT])
        result.changed = self._engine.row(f"SELECT count(*) FROM {looked} WHERE {_any_changed(suspects)}")[0]
        result.same = matched - result.changed

    def _states(self, looked: str, suspects: Sequence[int]) -> dict[int, dict[int, int]]:
        result: dict[int, dict[int, int]] = {}
        states = (RESPELT, CHANGED, ROUNDED, TIED)
        for start in range(0, len(suspects), AT_ONCE):
            places = suspects[start : start + AT_ONCE]
            wanted = [f"count(*) FILTER (s{n} = {state})" for n in places for state in states]
            told = iter(self._engine.row(f"SELECT {', '.join(wanted)} FROM {looked}"))
            result |= {n: {state: next(told) for state in states} for n in places}
        return result

    def _judge(self, looked: str, places: Sequence[int]) -> None:
        """A closer look at the cells of these columns that differ: many columns, one expression."""
        judged = self._engine.name("judged")
        pieces, tolerances = [], []
        for n in places:
            pair = self._cells[n]
            tolerance = self._options.tolerance(pair.name)
            tolerances.append(f"({n}, {'NULL' if tolerance is None else repr(tolerance)}::DOUBLE)")
            pieces.append(
                f"SELECT {n} AS n, {plain_text(pair.before, f'o{n}')} AS o, "
                f"{plain_text(pair.after, f'w{n}')} AS w FROM {looked} WHERE s{n} = {CHANGED}"
            )
        self._engine.run(
            f"CREATE TEMP TABLE {judged} AS SELECT n, o, w, {JUDGED}::UTINYINT AS state FROM (SELECT DISTINCT n, o, w FROM "
            f"({' UNION ALL '.join(pieces)})) d JOIN (VALUES {', '.join(tolerances)}) AS t(n, t) USING (n)"
        )
        for n in places:
            pair = self._cells[n]
            old, new = plain_text(pair.before, f"{looked}.o{n}"), plain_text(pair.after, f"{looked}.w{n}")
            self._engine.run(
                f"UPDATE {looked} SET s{n} = j.state FROM {judged} j WHERE j.n = {n} AND s{n} = {CHANGED} "
                f"AND j.o IS NOT DISTINCT FROM {old} AND j.w IS NOT DISTINCT FROM {new}"
            )
        self._engine.run(f"DROP TABLE {judged}")

    # --- the rows themselves -------------------------------------------------

    def _details(self, looked: str, suspects: Sequence[int], keep: Keep) -> list[DifferingRow]:
        changed = ", ".join(f"CASE WHEN s{n} = {CHANGED} THEN {literal(self._cells[n].name)} END" for n in suspects)
        listed = f"list_filter([{changed}], lambda x: x IS NOT NULL)" if changed else "[]::VARCHAR[]"
        picked = self._engine.name("picked")
        self._engine.run(
            f"CREATE TEMP TABLE {picked} AS SELECT {_MARK} AS mark, ar, br, {listed} AS columns FROM {looked} "
            f"WHERE ar IS NULL OR br IS NULL OR {_any_changed(suspects)} "
            f"ORDER BY mark LIMIT {MOST_KEPT if keep.path else keep.first}"
        )
        sides = ", ".join(
            f"{name} AS MATERIALIZED ({self._picked_cells(source, picked, row)})"
            for source, name, row in ((self._before, "a", "ar"), (self._after, "b", "br"))
        )
        details = kept(
            self._engine,
            f"WITH {sides} SELECT p.mark, p.ar, p.br, p.columns, a.cells AS before, b.cells AS after FROM {picked} p "
            f"LEFT JOIN a ON a.r = p.ar LEFT JOIN b ON b.r = p.br",
            keep,
        )
        self._engine.run(f"DROP TABLE {picked}")
        return details

    def _picked_cells(self, source: Source, picked: str, row: str) -> str:
        cells = ", ".join(f"CAST({shown(c, f't.c{i}')} AS VARCHAR)" for i, c in enumerate(source.columns))
        low, high = self._engine.row(f"SELECT coalesce(min({row}), 0), coalesce(max({row}), 0) FROM {picked}")
        # The range tells the engine what it need not even open.
        return (
            f"SELECT t.r, [{cells}] AS cells FROM {source.relation} t JOIN {picked} d ON t.r = d.{row} "
            f"WHERE t.r BETWEEN {low} AND {high}"
        )


class KeyedRun(RowRun):
    """Both tables under one key: first the rows that differ are found, then only those are looked at.

    The first step compares keys exactly, and a 64-bit hash of the rest of the row beside them; two different rows under
    one key are taken for equal with a chance of 2^-64.
    """

    def __init__(
        self,
        engine: Engine,
        before: Source,
        after: Source,
        pairs: Sequence[Pair],
        key: Sequence[Pair],
        options: TableOptions,
    ) -> None:
        super().__init__(engine, before, after, [p for p in pairs if p not in key], options)
        self._key = key

    def compared(self, keep: Keep, expected: Sequence[int]) -> RowChanges:
        """The counts and the rows to keep; raises ``NoKeyError``."""
        differing = self._spread() or self._aligned(expected) or self._joined()
        if not differing.is_checked:
            self._check_alone(differing.table)
        return self.told(differing, keep)

    def _spread(self) -> Differing | None:
        return by_spreading(self._engine, self._before, self._after, self._key, self._cells)

    def _aligned(self, expected: Sequence[int]) -> Differing | None:
        if not can_align(self._before, self._after, self._key):
            return None
        return by_alignment(self._engine, self._before, self._after, self._key[0], self._cells, expected)

    def _joined(self) -> Differing:
        """Both sides in one full outer join."""
        sides = []
        for source, old in ((self._before, True), (self._after, False)):
            keys = ", ".join(f"{(p.old_value if old else p.new_value)('t')} AS k{n}" for n, p in enumerate(self._key))
            rest = ", ".join(p.hashed("t", old=old) for p in self._cells)
            row_hash = f"hash({rest})" if rest else "0"
            sides.append(f"(SELECT r, {keys}, {row_hash} AS h FROM {source.relation} t)")
        found = join_rows(self._engine, sides[0], sides[1], len(self._key))
        # A row that was joined twice has a key that comes twice.
        if [found.in_old, found.in_new] != [s.row_count - s.left_out for s in (self._before, self._after)]:
            raise NoKeyError("not unique")
        return Differing(found.pairs, found.matched, list(range(len(self._cells))))

    def _check_alone(self, differing: str) -> None:
        """Rows without a partner must have a key as well, one that tells them apart; rows left out too."""
        for source, row, other, is_old in ((self._before, "ar", "br", True), (self._after, "br", "ar", False)):
            places = [p.old_place if is_old else p.new_place for p in self._key]
            if source.rest is not None:
                if not source.rest.is_key(places):
                    raise NoKeyError("not unique or empty in some rows")
                continue
            names = [f"t.c{place}" for place in places]
            alone = f"FROM {source.relation} t JOIN {differing} d ON t.r = d.{row} WHERE d.{other} IS NULL"
            empty = " OR ".join(f"{name} IS NULL" for name in names)
            keys = ", ".join(names)
            is_empty, is_twice = self._engine.row(
                f"SELECT coalesce(bool_or({empty}), false), coalesce(bool_or(n > 1), false) FROM "
                f"(SELECT {keys}, count(*) AS n {alone} GROUP BY {keys}) t"
            )
            if is_empty or is_twice:
                raise NoKeyError("empty in some rows" if is_empty else "not unique")


def _any_changed(suspects: Sequence[int]) -> str:
    tests = [f"s{n} = {CHANGED}" for n in suspects]
    return f"({' OR '.join(tests)})" if tests else "false"


def _mostly(changed: int, matched: int) -> bool:
    return changed >= _ROUNDED_CELLS and changed >= _ROUNDED_SHARE * matched


_MARK = "(coalesce(br, ar) * 2 + (br IS NULL)::INT)"
