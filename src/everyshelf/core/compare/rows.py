"""Rows of a table that differ, as people read them: the key, and what each changed cell was and is."""

from __future__ import annotations

from dataclasses import dataclass

from everyshelf.core.answers.tables import ColumnShift, DifferingRow, TableAnswer

_MOST_CELLS = 6


@dataclass(frozen=True)
class RowTold:
    """One row: what became of it, what names it, and its cells as (column, before, after)."""

    action: str
    name: str
    cells: list[tuple[str, str | None, str | None]]


def rows_told(table: TableAnswer, most: int) -> list[RowTold]:
    """The first rows that differ in a comparison's ``table``."""
    names = {
        "before": [column.name for column in table.schema.before],
        "after": [column.name for column in table.schema.after],
    }
    renamed = {new: old for old, new in table.columns.renamed}
    return [_told(row, names, table.key, renamed) for row in table.details[:most]]


def _told(row: DifferingRow, names: dict[str, list[str]], key: list[str], renamed: dict[str, str]) -> RowTold:
    before, after = row.before, row.after

    def old(column: str) -> str | None:
        name = renamed.get(column, column)
        return before[names["before"].index(name)] if before is not None and name in names["before"] else None

    def new(column: str) -> str | None:
        return after[names["after"].index(column)] if after is not None and column in names["after"] else None

    number = row.rows[0] if after is None else row.rows[1]
    told = [(new(k) if after is not None else old(k)) or "" for k in key]
    name = ", ".join(told) if key else f"row {number}"
    if row.action == "changed":
        return RowTold("changed", name, [(c, old(c), new(c)) for c in row.columns])
    side = names["after"] if after is not None else names["before"]
    shown = [c for c in side if c not in key][:_MOST_CELLS]
    return RowTold(row.action, name, [(c, old(c), new(c)) for c in shown])


@dataclass(frozen=True)
class ShiftTold:
    """How far the values of a column moved."""

    column: str
    shift: ColumnShift


def shifts_told(table: TableAnswer) -> list[ShiftTold]:
    """Columns with a measure of shift, the farthest first, without the key."""
    shifts = [
        ShiftTold(profile.column, profile.shift)
        for profile in table.profiles
        if profile.shift is not None and profile.column not in table.key
    ]
    return sorted(shifts, key=lambda told: -told.shift.value)
