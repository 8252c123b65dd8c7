"""A sheet of a workbook as a table: its header is the row that looks like one, its rows are those below."""

from __future__ import annotations

from collections.abc import Iterator

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.archives import open_archive
from everyshelf.core.formats.tables import Table
from everyshelf.core.formats.workbook_files import read_workbook
from everyshelf.core.formats.workbooks import CellValue, Sheet, column_letters
from everyshelf.core.kinds.spreadsheet import header_row
from everyshelf.core.tables.given import Given


def sheet_as_table(given: Given, form: str, name: str) -> Table:
    """The sheet called ``name``, or the only one. Formulas count as the values they had when the file was saved.
    Raises ``UnreadableError`` (rows.no_table) that names the sheets."""
    sheets = {sheet.name: sheet for sheet in read_workbook(open_archive(given.content), form).sheets}
    if not name and len(sheets) == 1:
        name = next(iter(sheets))
    if name not in sheets:
        said = ", ".join(list(sheets)[:20]) or "none"
        what = f"has no sheet {name!r}" if name else "has several sheets"
        raise UnreadableError(f"{given.name} {what}; its sheets: {said}", code="rows.no_table")
    sheet = sheets[name]
    header = header_row(sheet)
    names = [_name(sheet, header, column) for column in range(1, sheet.width + 1)]
    return Table(names, list(_rows(sheet, header)), header=header is not None)


def _name(sheet: Sheet, header: int | None, column: int) -> str:
    cell = sheet.rows[header].get(column) if header is not None else None
    return str(cell.value) if cell is not None and cell.value is not None else column_letters(column)


def _rows(sheet: Sheet, header: int | None) -> Iterator[tuple[str, ...]]:
    for number in sorted(sheet.rows):
        if header is None or number > header:
            row = sheet.rows[number]
            yield tuple(_text(row[c].value) if c in row else "" for c in range(1, sheet.width + 1))


def _text(value: CellValue) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float) and value.is_integer() and abs(value) < 1e15:
        return str(int(value))
    return str(value)
