"""Two tables compared: columns first, then rows by a declared or found key, then cells; without a key as multisets."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from everyshelf.core.errors import InvalidError
from everyshelf.core.outline.identities import is_id_like
from everyshelf.core.tables.columns import Source
from everyshelf.core.tables.engine import Engine
from everyshelf.core.tables.expressions import Pair
from everyshelf.core.tables.keep import Keep
from everyshelf.core.tables.matching import Matched, key_candidates, match_columns
from everyshelf.core.tables.options import TableOptions
from everyshelf.core.tables.rows import NoKeyError, RowChanges, as_multisets, by_key

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

    def as_json(self) -> dict[str, Any]:
        """The ``table`` member of a comparison's answer."""
        rows, columns = self.rows, self.columns
        types: dict[str, list[str]] = {"retyped": [], "widened": [], "narrowed": []}
        for name, (change, _, _) in columns.retyped.items():
            types[change].append(name)
        return {
            "rows": {
                "added": rows.added,
                "removed": rows.removed,
                "changed": rows.changed,
                "before": self.before.row_count,
                "after": self.after.row_count,
            },
            "key": self.key,
            "columns": {
                "added": [c.name for c in columns.added],
                "removed": [c.name for c in columns.removed],
                "renamed": [list(pair) for pair in columns.renamed],
                "reordered": columns.reordered,
                **types,
            },
            "cells": rows.cells,
            "schema": {"before": _schema(self.before), "after": _schema(self.after)},
            "details": rows.details,
            "unrelated": self.unrelated,
        }


def _schema(source: Source) -> list[dict[str, str]]:
    return [{"name": c.name, "type": c.told_type} for c in source.columns]


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
    if before.row_count == after.row_count > _WORTH_A_LOOK and _same_rows(engine, before, after, columns):
        return TableComparison(before, after, columns, RowChanges(same=after.row_count), list(options.key))
    if options.key:
        return _by_declared_key(engine, before, after, columns, options, keep or Keep())
    return _by_found_key(engine, before, after, columns, options, keep or Keep())


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


def _by_declared_key(
    engine: Engine, before: Source, after: Source, columns: Matched, options: TableOptions, keep: Keep
) -> TableComparison:
    by_name = {p.name: p for p in columns.pairs} | {p.before.name: p for p in columns.pairs}
    missing = next((name for name in options.key if name not in by_name), None)
    if missing is not None:
        shared = ", ".join(p.name for p in columns.pairs)
        raise InvalidError(
            f"the key column {missing!r} is not in both tables", code="key.missing", hint=f"Columns in both: {shared}."
        )
    key = [by_name[name] for name in options.key]
    try:
        rows = by_key(engine, before, after, columns.pairs, key, options, keep)
    except NoKeyError as error:
        note = f"the key {', '.join(options.key)} is {error}, so rows were compared without one"
        rows = as_multisets(engine, before, after, columns.pairs, keep)
        return TableComparison(before, after, columns, rows, notes=[note])
    return TableComparison(before, after, columns, rows, [p.name for p in key])


def _by_found_key(
    engine: Engine, before: Source, after: Source, columns: Matched, options: TableOptions, keep: Keep
) -> TableComparison:
    best: tuple[float, tuple[Pair, ...], RowChanges] | None = None
    first: tuple[Pair, ...] | None = None
    for key in key_candidates(engine, before, after, columns.pairs, options.preferred):
        try:
            rows = by_key(engine, before, after, columns.pairs, key, options, keep)
        except NoKeyError:
            continue
        names_rows = _names_rows(rows, before, after, key)
        if names_rows or tuple(p.name for p in key) == options.preferred:
            first = first or key
        if not names_rows:
            continue
        alike = _alike(rows, before, columns, key)
        if best is None or alike > best[0] + 0.05:
            best = (alike, key, rows)
        if alike >= _LEAST_ALIKE:
            break
    if best is None:
        return _without_key(engine, before, after, columns, keep)
    found = TableComparison(before, after, columns, best[2], [p.name for p in best[1]])
    if first is not None and first != best[1]:
        found.renumbered = [p.name for p in first if p not in best[1]]
        names = ", ".join(p.name for p in first)
        found.notes.append(f"{names} was given anew, so rows were matched by {', '.join(found.key)}")
    return found


def _without_key(engine: Engine, before: Source, after: Source, columns: Matched, keep: Keep) -> TableComparison:
    rows = as_multisets(engine, before, after, columns.pairs, keep)
    found = TableComparison(before, after, columns, rows)
    if not rows.same and min(before.row_count, after.row_count) > 10:
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
    """Share of the matched rows' cells that agree; little of it is a sign of a key given anew."""
    cells = (before.row_count - rows.removed) * (len(columns.pairs) - len(key))
    return 1 - rows.cells_changed() / cells if cells else 1.0
