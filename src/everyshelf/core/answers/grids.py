"""A sheet's grid to look at: the rows around what changed, both versions of a cell where they differ."""

from __future__ import annotations

from typing import Any, Literal

from everyshelf.core.answers.base import Answer

RowState = Literal["equal", "changed", "added", "removed", "moved"]
CellState = Literal["changed", "formula", "recalculated", "respelt"]


class GridColumn(Answer):
    """A column: its name, its letters before and after (null: not there), and what became of it."""

    name: str
    before: str | None
    after: str | None
    state: Literal["equal", "added", "removed"]


class GridCell(Answer):
    """A cell as it is now; ``state``, ``was`` and ``was_formula`` where it was another before."""

    value: Any
    formula: str | None = None
    state: CellState | None = None
    was: Any = None
    was_formula: str | None = None


class GridRow(Answer):
    """A row with its numbers before and after and one cell for each column (null: empty); or, in its place, how many
    equal rows are ``skipped`` here."""

    before: int | None
    after: int | None
    state: RowState
    cells: list[GridCell | None]
    skipped: int = 0


class SheetGrid(Answer):
    """Columns and rows in the order of the newer version, those that are gone where they were. ``header``: the number
    of the row with the names."""

    columns: list[GridColumn]
    rows: list[GridRow]
    header: int | None
    truncated: bool
