"""Rows against rows: by a key in one outer join, or as multisets; every count exact, details bounded.

Where a difference may be one of spelling alone (texts that write numbers or dates, whole columns that were rounded) the
differing cells, and only those, are judged in a second step.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from everyshelf.core.tables.columns import AT_ONCE, Source
from everyshelf.core.tables.engine import Engine, literal
from everyshelf.core.tables.expressions import CHANGED, EQUAL, JUDGED, RESPELT, ROUNDED, Pair, plain_text, shown
from everyshelf.core.tables.keep import MOST_KEPT, Keep
from everyshelf.core.tables.kept import kept
from everyshelf.core.tables.options import TableOptions

# Rounding is looked for in columns of which that share of cells differs, and explains a column if that share of the
# cells that differ are rounded values.
_ROUNDED_CELLS = 10
_ROUNDED_SHARE = 0.3


@dataclass
class RowChanges:
    """Exact counts; ``cells`` per column; ``details`` the first rows that differ, in the order of the newer table."""

    added: int = 0
    removed: int = 0
    changed: int = 0
    same: int = 0
    cells: dict[str, dict[str, int]] = field(default_factory=dict)
    rounded: list[str] = field(default_factory=list)
    details: list[dict[str, Any]] = field(default_factory=list)

    def cells_changed(self) -> int:
        """Cells that differ in value, over all columns."""
        return sum(c["changed"] for c in self.cells.values())


class NoKeyError(Exception):
    """The key is not unique, or empty somewhere; says which."""


def by_key(
    engine: Engine,
    before: Source,
    after: Source,
    pairs: Sequence[Pair],
    key: Sequence[Pair],
    options: TableOptions,
    keep: Keep | None = None,
) -> RowChanges:
    """Rows matched by ``key``; raises ``NoKeyError`` if it turns out not to tell every row from every other."""
    return KeyedRun(engine, before, after, pairs, key, options).compared(keep or Keep())


class KeyedRun:
    """Both tables under one key: first the rows that differ are found, then only those are looked at, cell by cell.

    The first step joins keys, exactly, with a 64-bit hash of the rest of the row beside them; two different rows under
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
        self._engine, self._before, self._after = engine, before, after
        self._key, self._options = key, options
        self._cells = [p for p in pairs if p not in key]
        self._judged = [n for n, p in enumerate(self._cells) if p.needs_judging]

    def compared(self, keep: Keep) -> RowChanges:
        """The counts and the rows to keep; raises ``NoKeyError``."""
        differing, matched = self._differing()
        result = RowChanges(self._after.row_count - matched, self._before.row_count - matched, 0, matched)
        looked = self._looked_at(differing)
        self._check_alone(looked)
        self._count(result, looked, matched)
        self._engine.run(f"DROP TABLE {differing}")
        if keep.first:
            result.details = self._details(looked, keep)
        self._engine.run(f"DROP TABLE {looked}")
        return result

    # --- which rows differ -------------------------------------------------

    def _differing(self) -> tuple[str, int]:
        """A table of the row numbers ``ar`` and ``br`` of rows that differ, came or went; how many rows have both."""
        sides = []
        for source, old in ((self._before, True), (self._after, False)):
            keys = ", ".join(f"{(p.old_value if old else p.new_value)('t')} AS k{n}" for n, p in enumerate(self._key))
            rest = ", ".join(p.hashed("t", old=old) for p in self._cells)
            row_hash = f"hash({rest})" if rest else "0"
            sides.append(f"(SELECT r, {keys}, {row_hash} AS h FROM {source.relation} t)")
        on = " AND ".join(f"a.k{n} = b.k{n}" for n in range(len(self._key)))
        alone = "a.r IS NULL OR b.r IS NULL"
        found, pairs = self._engine.name("found"), self._engine.name("differing")
        self._engine.run(
            f"CREATE TEMP TABLE {found} AS SELECT count(a.r) AS in_old, count(b.r) AS in_new, "
            f"count(*) FILTER (a.r IS NOT NULL AND b.r IS NOT NULL) AS matched, "
            f"list({{'ar': a.r, 'br': b.r}}) FILTER (a.h <> b.h OR {alone}) AS pairs "
            f"FROM {sides[0]} a FULL OUTER JOIN {sides[1]} b ON {on}"
        )
        in_old, in_new, matched = self._engine.row(f"SELECT in_old, in_new, matched FROM {found}")
        # A row that was joined twice has a key that comes twice.
        if in_old != self._before.row_count or in_new != self._after.row_count:
            raise NoKeyError("not unique")
        self._engine.run(
            f"CREATE TEMP TABLE {pairs} AS SELECT p.ar AS ar, p.br AS br FROM (SELECT unnest(pairs) AS p FROM {found})"
        )
        self._engine.run(f"DROP TABLE {found}")
        return pairs, matched

    def _check_alone(self, looked: str) -> None:
        """Rows without a partner must have a key as well, one that tells them apart."""
        for sign, other, is_old in (("o", "br", True), ("w", "ar", False)):
            names = [f"{sign}{p.old_place if is_old else p.new_place}" for p in self._key]
            empty = " OR ".join(f"{name} IS NULL" for name in names)
            if self._engine.rows(f"SELECT 1 FROM {looked} WHERE {other} IS NULL AND ({empty}) LIMIT 1"):
                raise NoKeyError("empty in some rows")
            if self._engine.rows(
                f"SELECT 1 FROM {looked} WHERE {other} IS NULL GROUP BY {', '.join(names)} HAVING count(*) > 1 LIMIT 1"
            ):
                raise NoKeyError("not unique")

    # --- what differs in them ----------------------------------------------

    def _looked_at(self, differing: str) -> str:
        """The rows that differ with their cells (``o<n>`` before, ``w<n>`` after) and a state ``s<n>`` for each."""
        looked = self._engine.name("looked")
        wanted = ["p.ar AS ar", "p.br AS br"]
        for n, pair in enumerate(self._cells):
            state = pair.state(self._options.tolerance(pair.name))
            wanted.append(f"(CASE WHEN ar IS NULL OR br IS NULL THEN {EQUAL} ELSE {state} END)::UTINYINT AS s{n}")
        wanted += [f"a.c{i} AS o{i}" for i in range(len(self._before.columns))]
        wanted += [f"b.c{i} AS w{i}" for i in range(len(self._after.columns))]
        # Each side on its own first: the few rows that are wanted meet the many that are there.
        old = f"SELECT t.* FROM {self._before.relation} t JOIN {differing} d ON t.r = d.ar"
        new = f"SELECT t.* FROM {self._after.relation} t JOIN {differing} d ON t.r = d.br"
        self._engine.run(
            f"CREATE TEMP TABLE {looked} AS WITH a AS MATERIALIZED ({old}), b AS MATERIALIZED ({new}) "
            f"SELECT {', '.join(wanted)} FROM {differing} p LEFT JOIN a ON a.r = p.ar LEFT JOIN b ON b.r = p.br"
        )
        return looked

    def _count(self, result: RowChanges, looked: str, matched: int) -> None:
        counts = self._states(looked)
        judged = [n for n in self._judged if counts[n][CHANGED]]
        judged += [n for n, p in enumerate(self._cells) if p.is_decimal and _mostly(counts[n][CHANGED], matched)]
        if judged:
            self._judge(looked, judged)
            counts = self._states(looked)
        for n, pair in enumerate(self._cells):
            states = counts[n]
            if states[ROUNDED]:
                is_rounded = _mostly(states[ROUNDED], max(matched, 1))
                if is_rounded:
                    result.rounded.append(pair.name)
                kept = RESPELT if is_rounded else CHANGED
                self._engine.run(f"UPDATE {looked} SET s{n} = {kept} WHERE s{n} = {ROUNDED}")
                states[kept] += states[ROUNDED]
            if states[CHANGED] or states[RESPELT]:
                result.cells[pair.name] = {"changed": states[CHANGED], "representation_only": states[RESPELT]}
        result.changed = self._engine.row(f"SELECT count(*) FROM {looked} WHERE {self._any_changed()}")[0]
        result.same = matched - result.changed

    def _states(self, looked: str) -> list[dict[int, int]]:
        result = []
        states = (RESPELT, CHANGED, ROUNDED)
        for start in range(0, len(self._cells), AT_ONCE):
            places = range(start, min(start + AT_ONCE, len(self._cells)))
            wanted = [f"count(*) FILTER (s{n} = {state})" for n in places for state in states]
            told = iter(self._engine.row(f"SELECT {', '.join(wanted)} FROM {looked}"))
            result += [{state: next(told) for state in states} for _ in places]
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
                f"SELECT {n} AS n, {plain_text(pair.before, f'o{pair.old_place}')} AS o, "
                f"{plain_text(pair.after, f'w{pair.new_place}')} AS w FROM {looked} WHERE s{n} = {CHANGED}"
            )
        self._engine.run(
            f"CREATE TEMP TABLE {judged} AS SELECT n, o, w, {JUDGED}::UTINYINT AS state FROM (SELECT DISTINCT n, o, w FROM "
            f"({' UNION ALL '.join(pieces)})) d JOIN (VALUES {', '.join(tolerances)}) AS t(n, t) USING (n)"
        )
        for n in places:
            pair = self._cells[n]
            old = plain_text(pair.before, f"{looked}.o{pair.old_place}")
            new = plain_text(pair.after, f"{looked}.w{pair.new_place}")
            self._engine.run(
                f"UPDATE {looked} SET s{n} = j.state FROM {judged} j WHERE j.n = {n} AND s{n} = {CHANGED} "
                f"AND j.o IS NOT DISTINCT FROM {old} AND j.w IS NOT DISTINCT FROM {new}"
            )
        self._engine.run(f"DROP TABLE {judged}")

    def _any_changed(self) -> str:
        tests = [f"s{n} = {CHANGED}" for n in range(len(self._cells))]
        return f"({' OR '.join(tests)})" if tests else "false"

    def _details(self, looked: str, keep: Keep) -> list[dict[str, Any]]:
        old = ", ".join(f"CAST({shown(c, f'o{i}')} AS VARCHAR)" for i, c in enumerate(self._before.columns))
        new = ", ".join(f"CAST({shown(c, f'w{i}')} AS VARCHAR)" for i, c in enumerate(self._after.columns))
        changed = ", ".join(f"CASE WHEN s{n} = {CHANGED} THEN {literal(p.name)} END" for n, p in enumerate(self._cells))
        listed = f"list_filter([{changed}], lambda x: x IS NOT NULL)" if changed else "[]::VARCHAR[]"
        return kept(
            self._engine,
            f"SELECT {_MARK} AS mark, ar, br, {listed} AS columns, [{old}] AS before, [{new}] AS after FROM {looked} "
            f"WHERE ar IS NULL OR br IS NULL OR {self._any_changed()}",
            keep,
        )


def _mostly(changed: int, matched: int) -> bool:
    return changed >= _ROUNDED_CELLS and changed >= _ROUNDED_SHARE * matched


_MARK = "(coalesce(br, ar) * 2 + (br IS NULL)::INT)"


def _numbers(values: Any) -> str:
    return ", ".join(str(int(value)) for value in sorted(values)) or "-1"


def as_multisets(
    engine: Engine, before: Source, after: Source, pairs: Sequence[Pair], keep: Keep | None = None
) -> RowChanges:
    """Rows of the columns both tables have, without any key: how often each comes on either side."""
    keep = keep or Keep()
    names = ", ".join(f"v{n}" for n in range(len(pairs)))
    old = ", ".join(f"{p.old_value('t')} AS v{n}" for n, p in enumerate(pairs))
    new = ", ".join(f"{p.new_value('t')} AS v{n}" for n, p in enumerate(pairs))
    grouped = (
        f"SELECT {names}, sum(o) AS o, sum(n) AS n, max(ar) AS ar, max(br) AS br FROM ("
        f"SELECT {old}, 1 AS o, 0 AS n, r AS ar, NULL AS br FROM {before.relation} t UNION ALL "
        f"SELECT {new}, 0 AS o, 1 AS n, NULL AS ar, r AS br FROM {after.relation} t) GROUP BY {names}"
    )
    most = MOST_KEPT if keep.path else keep.first
    added, removed, same, marks = engine.row(
        f"SELECT coalesce(sum(greatest(n - o, 0)), 0), coalesce(sum(greatest(o - n, 0)), 0), "
        f"coalesce(sum(least(o, n)), 0), "
        f"min(CASE WHEN n > o THEN br * 2 ELSE ar * 2 + 1 END, {max(most, 1)}) FILTER (n <> o) FROM ({grouped})"
    )
    result = RowChanges(int(added), int(removed), 0, int(same))
    if marks:
        result.details = kept(engine, _multiset_rows(before, after, marks), keep)
    return result


def _multiset_rows(before: Source, after: Source, marks: Sequence[int]) -> str:
    """One row for each different row that comes more often on one side."""
    pieces = []
    for source, odd in ((after, 0), (before, 1)):
        rows = _numbers([int(m) // 2 for m in marks if int(m) % 2 == odd])
        cells = ", ".join(f"CAST({shown(c, f't.c{i}')} AS VARCHAR)" for i, c in enumerate(source.columns))
        numbers, sides = ("NULL AS ar, r AS br", "NULL::VARCHAR[] AS before, [{}] AS after")
        if odd:
            numbers, sides = ("r AS ar, NULL AS br", "[{}] AS before, NULL::VARCHAR[] AS after")
        pieces.append(
            f"SELECT r * 2 + {odd} AS mark, {numbers}, []::VARCHAR[] AS columns, {sides.format(cells)} "
            f"FROM {source.relation} t WHERE r IN ({rows})"
        )
    return " UNION ALL ".join(pieces)
