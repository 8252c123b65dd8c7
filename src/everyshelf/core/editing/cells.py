"""Setting cells of a delimited table in the text they were read from."""

from __future__ import annotations

import re
from collections.abc import Sequence

from everyshelf.core.answers.files import CellsAnswer
from everyshelf.core.editing.edits import CellEdit
from everyshelf.core.errors import ConflictError, InvalidError, UnreadableError
from everyshelf.core.formats.source.tables import meaning, raw_table
from everyshelf.core.formats.text import decode, encoded_like
from everyshelf.core.tables.spelling import form_of, is_blank

MOST_BYTES = 20 * 1024 * 1024
MOST_ROWS = 5_000
MOST_COLUMNS = 200


def cells_of(data: bytes) -> CellsAnswer:
    """Columns and rows of a small delimited table as texts, or a ``note`` that says why it is not edited by cell."""
    try:
        table = raw_table(data)
    except UnreadableError as error:
        return _no_cells(error.message)
    if len(table.records) > MOST_ROWS or len(table.columns) > MOST_COLUMNS:
        return _no_cells(f"it has more than {MOST_ROWS:,} rows or {MOST_COLUMNS} columns")
    if len(set(table.columns)) < len(table.columns):
        return _no_cells("two of its columns have one name")
    rows = [[meaning(cell) for cell in table.cells(record)] for record in table.records]
    forms = [form_of(row[place] for row in rows) for place in range(len(table.columns))]
    return CellsAnswer(columns=table.columns, forms=forms, rows=rows, note="")


def _no_cells(note: str) -> CellsAnswer:
    return CellsAnswer(columns=[], forms=[], rows=[], note=note)


def set_cells(data: bytes, edits: Sequence[CellEdit]) -> bytes:
    """``data`` with these cells changed; every other byte stays.

    Raises ``InvalidError`` for a cell that is not there, a table that cannot be taken apart, or a value that is none of
    what the column holds (edit.form: a word among numbers), and ``ConflictError`` (edit.changed) for a cell that says
    something else by now.
    """
    if len(data) > MOST_BYTES:
        raise InvalidError(f"tables over {MOST_BYTES >> 20} MB are not edited by cell", code="edit.too_large")
    try:
        table = raw_table(data)
    except UnreadableError as error:
        raise InvalidError(
            f"this table is not edited by cell: {error.message}", code="edit.table", hint="Edit the text instead."
        ) from error
    records = list(table.records)
    forms: dict[str, str] = {}
    for edit in edits:
        if not 0 <= edit.row < len(records):
            raise InvalidError(f"there is no row {edit.row + 1}", code="edit.cell", hint="Load it again.")
        if edit.column not in table.columns:
            raise InvalidError(f"there is no column {edit.column}", code="edit.cell", hint="Load it again.")
        cells = table.cells(records[edit.row])
        place = table.columns.index(edit.column)
        says = meaning(cells[place])
        if edit.was is not None and says != edit.was:
            raise ConflictError(
                f"{edit.column} of row {edit.row + 1} says {says!r} by now, not {edit.was!r}",
                code="edit.changed",
                hint="Load it again, then edit.",
            )
        if edit.column not in forms:
            forms[edit.column] = form_of(meaning(table.cells(record)[place]) for record in table.records)
        _check_form(edit, forms[edit.column])
        cells[place] = table.written(edit.value)
        records[edit.row] = table.delimiter.join(cells)
    header = [table.header] if table.header is not None else []
    text = table.newline.join([*table.above, *header, *records]) + table.ending
    return encoded_like(text, decode(data))


def _check_form(edit: CellEdit, form: str) -> None:
    if form and not is_blank(edit.value) and not re.fullmatch(form, edit.value.strip()):
        raise InvalidError(
            f"{edit.value!r} does not fit the other values of {edit.column} (row {edit.row + 1})",
            code="edit.form",
            hint="If it belongs in this column, edit the text instead.",
        )
