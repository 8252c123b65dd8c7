"""A sheet's grid to look at: the rows around what changed, both versions of a cell where they differ."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

from everyshelf.core.answers.grids import CellState, GridCell, GridColumn, GridRow, RowState, SheetGrid
from everyshelf.core.answers.tables import DifferingRow, RowAction
from everyshelf.core.compare.grids import Laid
from everyshelf.core.formats.workbooks import Cell, Sheet, column_letters

_MOST_ROWS = 400
_MOST_COLUMNS = 60
_AROUND = 2
_LONG = 200


States = dict[tuple[int, int], CellState]


@dataclass(frozen=True)
class ColumnNames:
    """What both versions call their columns, by number: the header where there is one of that name, else letters."""

    before: dict[int, str]
    after: dict[int, str]


def column_names(old: Sheet, new: Sheet, laid: Laid) -> ColumnNames:
    """Names of all columns that hold something, each once."""
    header = {after: before for before, after in laid.rows}.get(laid.header) if laid.header is not None else None
    before = [*(a for a, _ in laid.columns), *laid.columns_gone]
    after = [*(b for _, b in laid.columns), *laid.columns_come]
    return ColumnNames(_named(old, header, before), _named(new, laid.header, after))


def _named(sheet: Sheet, header: int | None, columns: list[int]) -> dict[int, str]:
    cells = sheet.rows.get(header, {}) if header is not None else {}
    found: dict[int, str] = {}
    for column in sorted(columns):
        cell = cells.get(column)
        said = str(cell.value) if cell is not None and isinstance(cell.value, str) else ""
        found[column] = said if said and said not in found.values() else column_letters(column)
    return found


def row_details(
    old: Sheet, new: Sheet, laid: Laid, names: ColumnNames, states: States, most: int = 1_000
) -> list[DifferingRow]:
    """The first rows that differ, in the form of a table's: values, or formulas as they are written."""
    by_row: dict[int, list[int]] = {}
    for (row, column), state in states.items():
        if state in ("changed", "formula") and row != laid.header:
            by_row.setdefault(row, []).append(column)
    back = {after: before for before, after in laid.rows}
    placed: list[tuple[int, RowAction, int | None, int | None]] = []
    placed += [(row, "changed", back[row], row) for row in by_row]
    placed += [(row, "added", None, row) for row in laid.rows_come]
    placed += [(row, "removed", row, None) for row in laid.rows_gone]
    told = []
    for _, action, before, after in sorted(placed, key=lambda p: p[0])[:most]:
        told.append(
            DifferingRow(
                action=action,
                rows=(before, after),
                columns=[names.after[c] for c in sorted(by_row.get(after or 0, []))] if action == "changed" else [],
                before=_texts(old, before, names.before) if before is not None else None,
                after=_texts(new, after, names.after) if after is not None else None,
            )
        )
    return told


def _texts(sheet: Sheet, row: int, columns: dict[int, str]) -> list[str | None]:
    cells = (sheet.rows[row].get(column) for column in columns)
    return [None if c is None else _short(c.formula or (None if c.value is None else str(c.value))) for c in cells]


def grid_view(old: Sheet, new: Sheet, laid: Laid, names: ColumnNames, states: States) -> SheetGrid:
    """Columns and rows in the order of the newer version, gone ones where they were; equal stretches left out."""
    columns = _merged(laid.columns, laid.columns_gone, laid.columns_come)
    rows = _merged(laid.rows, laid.rows_gone, laid.rows_come)
    shown_columns = _telling_columns(columns, states)
    marked = [_is_marked(row, laid, states) for row in rows]
    near = [False] * len(rows)
    for place, is_marked in enumerate(marked):
        if is_marked or rows[place][1] == laid.header is not None:
            for k in range(max(0, place - _AROUND), min(len(rows), place + _AROUND + 1)):
                near[k] = True
    told: list[GridRow] = []
    skipped = 0
    for row, is_near in zip(rows, near, strict=True):
        if not is_near or len(told) >= _MOST_ROWS:
            skipped += 1
            continue
        if skipped:
            told.append(_equal_rows(skipped))
            skipped = 0
        told.append(_row(old, new, row, shown_columns, laid, states))
    if skipped:
        told.append(_equal_rows(skipped))
    return SheetGrid(
        columns=[_column(names, c) for c in shown_columns],
        rows=told,
        header=laid.header,
        truncated=len(told) > _MOST_ROWS or len(shown_columns) < len(columns),
    )


def _equal_rows(count: int) -> GridRow:
    return GridRow(before=None, after=None, state="equal", cells=[], skipped=count)


Placed = tuple[int | None, int | None]


def _merged(pairs: list[tuple[int, int]], gone: list[int], come: list[int]) -> list[Placed]:
    """Matched and new ones by their new number; each one gone right after the one that stood before it."""
    order: list[Placed] = sorted([*pairs, *((None, c) for c in come)], key=lambda p: p[1] or 0)
    place_of = {old: (k, 0) for k, (old, _) in enumerate(order) if old is not None}
    slots: list[tuple[tuple[int, int], Placed]] = [((k, 0), pair) for k, pair in enumerate(order)]
    known = sorted(place_of)
    for number in gone:
        before = [k for k in known if k < number]
        at = place_of[before[-1]][0] if before else -1
        slots.append(((at, number), (number, None)))
    return [pair for _, pair in sorted(slots, key=lambda s: s[0])]


def _telling_columns(columns: list[Placed], states: States) -> list[Placed]:
    if len(columns) <= _MOST_COLUMNS:
        return columns
    changed = {column for _, column in states}
    telling = [c for c in columns if c[0] is None or c[1] is None or c[1] in changed]
    return telling[:_MOST_COLUMNS] or columns[:_MOST_COLUMNS]


def _is_marked(row: Placed, laid: Laid, states: States) -> bool:
    before, after = row
    if before is None or after is None or after in laid.moved:
        return True
    return any((after, column) in states for _, column in laid.columns)


def _column(names: ColumnNames, column: Placed) -> GridColumn:
    before, after = column
    name = names.after[after] if after is not None else names.before[before or 0]
    state: Literal["equal", "added", "removed"] = "removed" if after is None else "added" if before is None else "equal"
    return GridColumn(
        name=name,
        before=column_letters(before) if before else None,
        after=column_letters(after) if after else None,
        state=state,
    )


def _row(old: Sheet, new: Sheet, row: Placed, columns: list[Placed], laid: Laid, states: States) -> GridRow:
    before, after = row
    state: RowState = (
        "removed" if after is None else "added" if before is None else "moved" if after in laid.moved else "equal"
    )
    cells = []
    for a, b in columns:
        was = old.rows.get(before, {}).get(a) if before is not None and a is not None else None
        now = new.rows.get(after, {}).get(b) if after is not None and b is not None else None
        cells.append(_cell(was, now, states.get((after or 0, b or 0)), is_row_equal=state in ("equal", "moved")))
    if state == "equal" and any(c and c.state in ("changed", "formula") for c in cells):
        state = "changed"
    return GridRow(before=before, after=after, state=state, cells=cells)


def _cell(was: Cell | None, now: Cell | None, state: CellState | None, *, is_row_equal: bool) -> GridCell | None:
    shown = now if now is not None else was
    if shown is None:
        return None
    cell = GridCell(value=_short(shown.value), formula=_short(shown.formula))
    if state is not None and is_row_equal:
        cell.state = state
        if was is not None:
            cell.was, cell.was_formula = _short(was.value), _short(was.formula)
        if now is None:
            cell.value = None
    return cell


def _short(value: Any) -> Any:
    return value[:_LONG] + " …" if isinstance(value, str) and len(value) > _LONG else value
