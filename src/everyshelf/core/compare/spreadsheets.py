"""Workbook against workbook: sheets by name, or by content where one was renamed; their cells aligned; then names,
validation, what is hidden, script modules, looks."""

from __future__ import annotations

import math
from collections import Counter
from dataclasses import dataclass, field
from typing import Any

from everyshelf.core.answers.grids import CellState
from everyshelf.core.answers.tables import (
    CellCounts,
    ColumnChanges,
    ColumnType,
    RowCounts,
    TableAnswer,
    TableSchema,
)
from everyshelf.core.compare.grids import Laid, Places, lay
from everyshelf.core.compare.outlines import compare_outlines
from everyshelf.core.compare.result import Comparison
from everyshelf.core.compare.sentences import count_noun
from everyshelf.core.compare.sheet_view import column_names, grid_view, row_details
from everyshelf.core.formats import formulas
from everyshelf.core.formats.workbooks import Cell, CellValue, Sheet, Workbook, column_letters
from everyshelf.core.kinds.spreadsheet import workbook_outline
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.outline.model import Effect, Finding, Outline, Step

_SAME_RATIO = 1e-12
_LEAST_SHARED = 0.5
_SAMPLE_ROWS = 500
_NAMED_PLACES = 6
_MOST_NAMED = 8

Placed = dict[str, tuple[Places, Places, str]]


def compare_workbooks(before: Workbook, after: Workbook, table: KindTable) -> Comparison:
    """Everything that differs between two workbooks."""
    matched = matched_sheets(before, after)
    laid = {new.name: (old, new, lay(old, new)) for old, new in matched if not _untouched(old, new)}
    places: Placed = {old.name: (Places([]), Places([]), new.name) for old, new in matched}
    places |= {o.name: (Places(found.rows), Places(found.columns), n.name) for o, n, found in laid.values()}
    findings: list[Finding] = []
    tables: dict[str, TableAnswer] = {}
    renamed = {new.name: old.name for old, new in matched if old.name != new.name}
    for new_name, old_name in renamed.items():
        findings.append(
            Finding("renamed", f"/sheet:{_path(new_name)}", "sheet", new_name, "alters", None, old_name, new_name)
        )
    called = {old: new for new, old in renamed.items()}
    one, other = workbook_outline(before, table, called), workbook_outline(after, table)
    said, identity = compare_outlines(
        Outline("spreadsheet", "workbook", one), Outline("spreadsheet", "workbook", other), table
    )
    findings += said
    for old, new, found in laid.values():
        sheet = _SheetFindings(old, new, found, places)
        findings += sheet.all()
        tables[new.name] = sheet.answer()
    notes = "; ".join(dict.fromkeys([*before.notes, *after.notes]))
    return Comparison("spreadsheet", findings, identity=identity, note=notes, tables=tables)


def _untouched(old: Sheet, new: Sheet) -> bool:
    """The same cells: nothing to lay on each other."""
    return old.rows == new.rows


def matched_sheets(before: Workbook, after: Workbook) -> list[tuple[Sheet, Sheet]]:
    """Which sheet became which: by name, else by what they hold."""
    by_name = {s.name: s for s in before.sheets}
    pairs = [(by_name[s.name], s) for s in after.sheets if s.name in by_name]
    taken = {old.name for old, _ in pairs}
    left_old = [s for s in before.sheets if s.name not in taken]
    left_new = [s for s in after.sheets if s.name not in taken]
    for new in left_new:
        near = [(share, k) for k, old in enumerate(left_old) if (share := _shared(old, new)) >= _LEAST_SHARED]
        if near:
            pairs.append((left_old.pop(max(near)[1]), new))
    return pairs


def _shared(old: Sheet, new: Sheet) -> float:
    one, other = ({c.content for row in list(s.rows.values())[:_SAMPLE_ROWS] for c in row.values()} for s in (old, new))
    return len(one & other) / len(one | other) if one or other else 0.0


def _path(name: str) -> str:
    return name.replace("/", "%2F")


@dataclass
class _Column:
    """What changed in the cells of one column."""

    changed: list[tuple[str, CellValue, CellValue]] = field(default_factory=list)
    respelt: int = 0
    formulas: list[tuple[str, str | None, str | None]] = field(default_factory=list)


class _SheetFindings:
    def __init__(self, old: Sheet, new: Sheet, laid: Laid, places: Placed) -> None:
        self._old, self._new, self._laid = old, new, laid
        self._within = f"/sheet:{_path(new.name)}"
        self._findings: list[Finding] = []
        self._names = column_names(old, new, laid)
        self._places: Placed = {**places, "": (*places[old.name][:2], "")}
        self._renamed: list[tuple[str, CellValue, CellValue]] = []
        self._columns: dict[int, _Column] = {}
        self._recalculated = self._looks = 0
        self._changed_rows: set[int] = set()
        self.states: dict[
            tuple[int, int], CellState
        ] = {}  # (row, column) of the newer version -> what became of the cell

    def all(self) -> list[Finding]:
        laid = self._laid
        for row_old, row_new in laid.rows:
            one, other = self._old.rows[row_old], self._new.rows[row_new]
            for a, b in laid.columns:
                before, after = one.get(a), other.get(b)
                if before is not after and before != after:
                    self._cell(before or Cell(None), after or Cell(None), row_new, b)
        self._structure()
        for column, found in sorted(self._columns.items()):
            self._column(column, found)
        if self._recalculated:
            detail = f"{count_noun(self._recalculated, 'value')} recalculated by formulas that did not change"
            self._say("changed", "sheet", self._new.name, "cosmetic", field="results", detail=detail)
        if self._looks:
            detail = f"{count_noun(self._looks, 'cell')} look different"
            self._say("changed", "sheet", self._new.name, "cosmetic", field="formatting", detail=detail)
        return self._findings

    def _say(
        self,
        action: Step,
        part_type: str,
        label: str,
        effect: Effect,
        *,
        key: str = "",
        field: str | None = None,
        before: Any = None,
        after: Any = None,
        detail: str = "",
    ) -> None:
        path = f"{self._within}/{part_type}:{_path(key)}" if key else self._within
        within = f"sheet {self._new.name}" if key else ""
        self._findings.append(Finding(action, path, part_type, label, effect, field, before, after, detail, within))

    def _cell(self, before: Cell, after: Cell, row: int, column: int) -> None:
        found = self._columns.setdefault(column, _Column())
        place = f"{column_letters(column)}{row}"
        state: CellState | None = None
        if before.relative is not None or after.relative is not None:
            if self._same_formula(before, after):
                if not _same(before.value, after.value):
                    self._recalculated += 1
                    state = "recalculated"
            else:
                found.formulas.append((place, _told(before), _told(after)))
                state = "formula"
        elif not _same(before.value, after.value):
            if _respelt(before.value, after.value):
                found.respelt += 1
                state = "respelt"
            elif row == self._laid.header and before.value is not None and after.value is not None:
                self._renamed.append((place, before.value, after.value))
                state = "changed"
            else:
                found.changed.append((place, before.value, after.value))
                state = "changed"
        elif before.look != after.look:
            self._looks += 1
        if state is not None:
            self.states[row, column] = state
            if state in ("changed", "formula") and row != self._laid.header:
                self._changed_rows.add(row)

    def _same_formula(self, before: Cell, after: Cell) -> bool:
        if before.relative == after.relative:
            return True
        if before.formula is None or after.formula is None:
            return False
        return formulas.follows(before.formula, after.formula, self._places)

    def _structure(self) -> None:
        laid = self._laid
        for column in laid.columns_gone:
            name = self._names.before[column]
            self._say("removed", "column", name, "breaks", key=name, before=column_letters(column))
        for column in laid.columns_come:
            name = self._names.after[column]
            self._say("added", "column", name, "alters", key=name, after=column_letters(column))
        for _, was, now in self._renamed:
            self._say("renamed", "column", str(now), "breaks", key=str(now), before=str(was), after=str(now))
        if laid.columns_moved:
            self._say("reordered", "sheet", "columns", "cosmetic")
        for action, numbers in (("added", laid.rows_come), ("removed", laid.rows_gone)):
            if numbers:
                label = count_noun(len(numbers), "row")
                self._findings.append(
                    Finding(action, f"{self._within}/rows", "rows", label, "alters", detail=_ranges(numbers))  # type: ignore[arg-type]
                )
        if laid.moved:
            detail = f"{count_noun(len(laid.moved), 'row')} in other places: {_ranges(sorted(laid.moved))}"
            self._findings.append(
                Finding("reordered", f"{self._within}/rows", "rows", "rows", "cosmetic", detail=detail)
            )

    def _column(self, column: int, found: _Column) -> None:
        name = self._names.after[column]
        if found.changed:
            self._told("changed", name, None, found.changed, "cell")
        if found.formulas:
            self._told("changed", name, "formula", found.formulas, "formula")
        if found.respelt:
            detail = f"{count_noun(found.respelt, 'cell')} respelt"
            self._say("changed", "column", name, "cosmetic", key=name, detail=detail)

    def _told(self, action: Step, name: str, field: str | None, found: list[tuple[str, Any, Any]], noun: str) -> None:
        """All changes of one column as one finding; a single one, or one change made everywhere, with its values."""
        places = [place for place, _, _ in found]
        named = ", ".join(places[:_NAMED_PLACES]) + (" …" if len(places) > _NAMED_PLACES else "")
        before, after = found[0][1:] if len(found) == 1 else (None, None)
        if field == "formula":
            kinds = Counter((was, now) for _, was, now in found)
            before, after = found[0][1:] if len(found) == 1 or len(kinds) == len(found) else kinds.most_common(1)[0][0]
        detail = f"{count_noun(len(found), noun)}: {named}"
        self._say(action, "column", name, "alters", key=name, field=field, before=before, after=after, detail=detail)

    def answer(self) -> TableAnswer:
        """The form of a table, with what formulas did, and the grid to look at."""
        laid, names = self._laid, self._names
        return TableAnswer(
            rows=RowCounts(
                added=len(laid.rows_come),
                removed=len(laid.rows_gone),
                changed=len(self._changed_rows),
                before=len(self._old.rows),
                after=len(self._new.rows),
            ),
            key=[names.after[laid.key]] if laid.key is not None else [],
            columns=ColumnChanges(
                added=[names.after[c] for c in laid.columns_come],
                removed=[names.before[c] for c in laid.columns_gone],
                renamed=[(str(was), str(now)) for _, was, now in self._renamed],
                retyped=[],
                widened=[],
                narrowed=[],
                reordered=laid.columns_moved,
            ),
            cells={
                names.after[c]: CellCounts(
                    changed=len(found.changed) + len(found.formulas), representation_only=found.respelt
                )
                for c, found in sorted(self._columns.items())
                if found.changed or found.respelt or found.formulas
            },
            schema=TableSchema(before=_schema(names.before), after=_schema(names.after)),
            details=row_details(self._old, self._new, laid, names, self.states),
            unrelated=False,
            profiles=[],
            formulas={names.after[c]: len(f.formulas) for c, f in sorted(self._columns.items()) if f.formulas},
            recalculated=self._recalculated,
            grid=grid_view(self._old, self._new, laid, names, self.states),
        )


def _schema(names: dict[int, str]) -> list[ColumnType]:
    return [ColumnType(name=name, type="column") for name in names.values()]


def _told(cell: Cell) -> str | None:
    return cell.formula if cell.formula is not None else None if cell.value is None else str(cell.value)


def _same(before: CellValue, after: CellValue) -> bool:
    if isinstance(before, bool) or isinstance(after, bool):
        return before is after
    return before == after


def _respelt(before: CellValue, after: CellValue) -> bool:
    """The same in another form: the last bits of a number, a number kept as text, blanks around a text."""
    numbers = [v for v in (before, after) if isinstance(v, int | float) and not isinstance(v, bool)]
    if len(numbers) == 2:
        return math.isclose(numbers[0], numbers[1], rel_tol=_SAME_RATIO)
    texts = [v for v in (before, after) if isinstance(v, str)]
    if len(texts) == 2:
        return texts[0].split() == texts[1].split()
    if len(texts) == len(numbers) == 1:
        try:
            return float(texts[0]) == numbers[0]
        except ValueError:
            return False
    return False


def _ranges(numbers: list[int]) -> str:
    """``3, 5–7 and 12``, cut off where there are many."""
    runs: list[list[int]] = []
    for number in numbers:
        if runs and number == runs[-1][1] + 1:
            runs[-1][1] = number
        else:
            runs.append([number, number])
    told = [str(a) if a == b else f"{a}–{b}" for a, b in runs]
    return ", ".join(told[:_MOST_NAMED]) + (f" and {len(told) - _MOST_NAMED} more" if len(told) > _MOST_NAMED else "")
