"""Tables inside outlines (examples of a scenario, tables of a report): their columns are matched as those of any table.

What is left are rows under the same names on both sides, which are compared as parts.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any, NamedTuple

from everyshelf.core.formats.tables import Table
from everyshelf.core.outline.model import Part

TABULAR = ("examples", "table")
HEADER = "columns"  # the field of such a part that names its columns
SEPARATOR = " | "
_MOST_ROWS = 10_000


class Levelled(NamedTuple):
    """Both tables with the columns they share, under the newer names, and what became of the others."""

    before: Part
    after: Part
    added: list[str]
    removed: list[str]
    renamed: list[tuple[str, str]]
    reordered: bool


def level_columns(before: Part, after: Part) -> Levelled | None:
    """None where the columns are the same, or where there is nothing to go by."""
    # An engine is loaded only where a table's columns differ.
    from everyshelf.core.tables.delimited import from_parsed
    from everyshelf.core.tables.engine import borrowed_engine
    from everyshelf.core.tables.matching import match_columns

    if before.fields.get(HEADER) == after.fields.get(HEADER):
        return None
    sides = [(part, _names(part), list(part.children())) for part in (before, after)]
    if any(not names or len(rows) > _MOST_ROWS for _, names, rows in sides):
        return None
    with borrowed_engine() as engine:
        old, new = (from_parsed(engine, Table(names, [_cells(row, names) for row in rows])) for _, names, rows in sides)
        found = match_columns(engine, old, new, set())
    now = dict(found.renamed)
    shared = [pair.before.name for pair in found.pairs]
    one = _with_rows(before, [{now.get(n, n): row.fields.get(n) for n in shared} for row in sides[0][2]], sides[0][2])
    names = [pair.name for pair in found.pairs]
    other = _with_rows(after, [{n: row.fields.get(n) for n in names} for row in sides[1][2]], sides[1][2])
    added, removed = [c.name for c in found.added], [c.name for c in found.removed]
    return Levelled(one, other, added, removed, found.renamed, found.reordered)


def _names(part: Part) -> list[str]:
    return str(part.fields.get(HEADER) or "").split(SEPARATOR)


def _cells(row: Part, names: list[str]) -> tuple[str, ...]:
    return tuple(str(row.fields.get(name) or "") for name in names)


def _with_rows(part: Part, rows: list[dict[str, Any]], given: list[Part]) -> Part:
    fields = {k: v for k, v in part.fields.items() if k != HEADER}
    kept = [{k: v for k, v in row.items() if v is not None} for row in rows]
    parts = [replace(old, value=row, fields=row) for old, row in zip(given, kept, strict=True)]
    return replace(part, value={**fields, "rows": kept}, fields=fields, expand=lambda: parts)
