"""Two tables compared: columns first, then rows by a declared or found key, then cells; without a key as multisets."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from everyshelf.core.answers.tables import ColumnChanges, ColumnType, RowCounts, TableAnswer, TableSchema
from everyshelf.core.errors import InvalidError
from everyshelf.core.outline.identities import is_id_like
from everyshelf.core.tables.aligned import can_align, sampled
from everyshelf.core.tables.changes import NoKeyError, RowChanges
from everyshelf.core.tables.columns import Source
from everyshelf.core.tables.engine import Engine
from everyshelf.core.tables.expressions import Pair
from everyshelf.core.tables.keep import Keep
from everyshelf.core.tables.matching import Matched, key_candidates, match_columns
from everyshelf.core.tables.multisets import as_multisets
from everyshelf.core.tables.options import TableOptions
from everyshelf.core.tables.profiles import Profile
from everyshelf.core.tables.rows import by_key

# A found key that matches fewer rows is none; one whose rows agree in fewer cells gives way to a better one.
_LEAST_MATCHED = 0.1
_LEAST_MATCHED_BY_CHANCE = 0.5
_LEAST_ALIKE = 0.5
_WORTH_A_LOOK = 50_000  # rows beyond which it pays to ask first whether both tables hold the same ones


@dataclass
class TableComparison:
    """What became of a table. ``unrelated``: the two have no row or no column in common."""

    before: Source
    after: Source
    columns: Matched
    rows: RowChanges
    key: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    renumbered: list[str] = field(default_factory=list)
    unrelated: bool = False

    @property
    def is_same(self) -> bool:
        """True if columns and rows are the same, whatever their order."""
        columns, rows = self.columns, self.rows
        moved = columns.added or columns.removed or columns.renamed or columns.retyped
        return not moved and not rows.cells and rows.same == self.before.row_count == self.after.row_count

    def answer(self, profiles: Sequence[Profile] = ()) -> TableAnswer:
        """What interfaces get, with the profiles of the columns."""
        rows, columns = self.rows, self.columns
        types: dict[str, list[str]] = {"retyped": [], "widened": [], "narrowed": []}
        for name, (change, _, _) in columns.retyped.items():
            types[change].append(name)
        return TableAnswer(
            rows=RowCounts(
                added=rows.added,
                removed=rows.removed,
                changed=rows.changed,
                before=self.before.row_count,
                after=self.after.row_count,
            ),
            key=self.key,
            columns=ColumnChanges(
                added=[c.name for c in columns.added],
                removed=[c.name for c in columns.removed],
                renamed=list(columns.renamed),
                reordered=columns.reordered,
                **types,
            ),
            cells=rows.cells,
            schema=TableSchema(before=column_types(self.before), after=column_types(self.after)),
            details=rows.details,
            unrelated=self.unrelated,
            profiles=[profile.answer() for profile in profiles],
        )


def column_types(source: Source) -> list[ColumnType]:
    """Names and types of the columns, in their order."""
    return [ColumnType(name=c.name, type=c.told_type) for c in source.columns]


def compare_tables(
    engine: Engine,
    before: Source,
    after: Source,
    options: TableOptions | None = None,
    keep: Keep | None = None,
) -> TableComparison:
    """Raises ``InvalidError`` for a declared key that is not in both tables."""
    options = options or TableOptions()
    ignored = {name for name in (*before.names, *after.names) if options.is_ignored(name)}
    columns = match_columns(engine, before, after, ignored)
    if not columns.pairs and (columns.added or columns.removed):
        note = "the two tables share no column: they are unrelated"
        rows = RowChanges(after.row_count, before.row_count)
        return TableComparison(before, after, columns, rows, notes=[note], unrelated=True)
    if not columns.pairs:
        more = after.row_count - before.row_count
        return TableComparison(before, after, columns, RowChanges(max(more, 0), max(-more, 0)))
    return _Rows(engine, before, after, columns, options, keep or Keep()).compared()


def _same_rows(engine: Engine, before: Source, after: Source, columns: Matched) -> bool:
    """True if both tables hold the same rows in whatever order, by the sum and the parity of their hashes: 128 bits.

    Two reads without a join; a table that was merely sorted anew or cut into other files needs no more.
    """
    if columns.added or columns.removed or columns.renamed or columns.retyped:
        return False
    signs = []
    for source, old in ((before, True), (after, False)):
        cells = ", ".join(p.hashed("t", old=old) for p in columns.pairs)
        row_hash = f"hash({cells})"
        signs.append(engine.row(f"SELECT sum({row_hash}::HUGEINT), bit_xor({row_hash}) FROM {source.relation} t"))
    return bool(signs[0] == signs[1])


class _Rows:
    """Rows of two tables whose columns are matched: under the declared key, else the best that is found, else none."""

    def __init__(
        self, engine: Engine, before: Source, after: Source, columns: Matched, options: TableOptions, keep: Keep
    ) -> None:
        self._engine, self._before, self._after = engine, before, after
        self._columns, self._options, self._keep = columns, options, keep
        self._expected: tuple[tuple[Pair, ...], list[int]] = ((), [])

    def compared(self) -> TableComparison:
        keys = self._declared() if self._options.key else self._candidates()
        likely = next(keys, None)
        if self._all_same(likely):
            rows = RowChanges(same=self._after.row_count)
            return self._told(rows, list(self._options.key))
        tried = itertools.chain([likely] if likely else [], keys)
        return self._by_declared_key(tried) if self._options.key else self._by_found_key(tried)

    def _declared(self) -> Iterator[tuple[Pair, ...]]:
        by_name = {p.name: p for p in self._columns.pairs} | {p.before.name: p for p in self._columns.pairs}
        missing = next((name for name in self._options.key if name not in by_name), None)
        if missing is not None:
            shared = ", ".join(p.name for p in self._columns.pairs)
            raise InvalidError(
                f"the key column {missing!r} is not in both tables",
                code="key.missing",
                hint=f"Columns in both: {shared}.",
            )
        yield tuple(by_name[name] for name in self._options.key)

    def _candidates(self) -> Iterator[tuple[Pair, ...]]:
        preferred = self._options.preferred
        return key_candidates(self._engine, self._before, self._after, self._columns.pairs, preferred)

    def _all_same(self, likely: tuple[Pair, ...] | None) -> bool:
        """True if all rows are equal in whatever order: known, or found in two reads without a join.

        The first rows are asked before: where they differ under the likely key, nobody need read the rest for this.
        """
        before, after = self._before, self._after
        seen = self._look_ahead(likely)
        if before.row_count != after.row_count:
            return False
        if before.rest is not None and before.left_out == before.row_count == after.left_out:
            return True
        if before.rest is not None or before.row_count <= _WORTH_A_LOOK or seen:
            return False
        return _same_rows(self._engine, before, after, self._columns)

    def _look_ahead(self, key: tuple[Pair, ...] | None) -> list[int]:
        if key and can_align(self._before, self._after, key):
            cells = [p for p in self._columns.pairs if p not in key]
            self._expected = key, sampled(self._engine, self._before, self._after, key, cells)
        return self._expected[1]

    def _by_key(self, key: tuple[Pair, ...]) -> RowChanges:
        expected = self._expected[1] if self._expected[0] == key else []
        pairs = self._columns.pairs
        return by_key(self._engine, self._before, self._after, pairs, key, self._options, self._keep, expected)

    def _without_key(self) -> RowChanges:
        pairs = self._columns.pairs
        return as_multisets(self._engine, self._before, self._after, pairs, self._options, self._keep)

    def _told(self, rows: RowChanges, key: list[str], notes: Sequence[str] = ()) -> TableComparison:
        return TableComparison(self._before, self._after, self._columns, rows, key, list(notes))

    def _by_declared_key(self, keys: Iterator[tuple[Pair, ...]]) -> TableComparison:
        key = next(keys)
        try:
            return self._told(self._by_key(key), [p.name for p in key])
        except NoKeyError as error:
            note = f"the key {', '.join(self._options.key)} is {error}, so rows were compared without one"
            return self._told(self._without_key(), [], [note])

    def _by_found_key(self, keys: Iterator[tuple[Pair, ...]]) -> TableComparison:
        best: tuple[float, tuple[Pair, ...], RowChanges] | None = None
        first: tuple[Pair, ...] | None = None
        for key in keys:
            try:
                rows = self._by_key(key)
            except NoKeyError:
                continue
            names_rows = _names_rows(rows, self._before, self._after, key)
            if names_rows or tuple(p.name for p in key) == self._options.preferred:
                first = first or key
            if not names_rows:
                continue
            alike = _alike(rows, self._before, self._columns, key)
            if best is None or alike > best[0] + 0.05:
                best = (alike, key, rows)
            if alike >= _LEAST_ALIKE:
                break
        if best is None:
            return self._by_content()
        found = self._told(best[2], [p.name for p in best[1]])
        if first is not None and first != best[1]:
            found.renumbered = [p.name for p in first if p not in best[1]]
            names = ", ".join(p.name for p in first)
            found.notes.append(f"{names} was regenerated, so rows were matched by {', '.join(found.key)}")
        return found

    def _by_content(self) -> TableComparison:
        found = self._told(self._without_key(), [])
        if not found.rows.same and not found.rows.changed and min(self._before.row_count, self._after.row_count) > 10:
            found.notes.append("no row of one table is in the other: they may be unrelated")
            found.unrelated = True
        return found


def _names_rows(rows: RowChanges, before: Source, after: Source, key: tuple[Pair, ...]) -> bool:
    """True if enough rows of the smaller table have a partner: a column may be unique by chance."""
    least = min(before.row_count, after.row_count)
    matched = before.row_count - rows.removed
    id_like = any(is_id_like(p.name) is not None for p in key)
    return not least or matched / least >= (_LEAST_MATCHED if id_like else _LEAST_MATCHED_BY_CHANCE)


def _alike(rows: RowChanges, before: Source, columns: Matched, key: tuple[Pair, ...]) -> float:
    """Share of the matched rows' cells that agree; little of it is a sign of a regenerated key."""
    cells = (before.row_count - rows.removed) * (len(columns.pairs) - len(key))
    return 1 - rows.cells_changed() / cells if cells else 1.0
