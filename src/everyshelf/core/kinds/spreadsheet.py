"""Spreadsheets: sheets, defined names, validation, what is hidden or protected, script modules. Cells are compared as a
grid (see ``everyshelf.core.compare.grids``), not as parts."""

from __future__ import annotations

import itertools

from everyshelf.core.formats.workbooks import Sheet, Workbook, column_letters
from everyshelf.core.kinds.cosmetic import Cosmetic, prose
from everyshelf.core.kinds.maker import Maker
from everyshelf.core.kinds.modules import module_part
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.outline.model import Part

TABLE = KindTable(
    id="spreadsheet",
    cosmetic_types=(
        Cosmetic(frozenset({"properties"}), "kept by the program beside the sheets", made=True),
        Cosmetic(frozenset({"merged cells"}), "how it looks"),
    ),
    cosmetic_fields=(Cosmetic(frozenset({"tab colour"}), "how it looks"), prose("docstring", "comment")),
    unordered=frozenset({"name", "module", "validation", "properties", "procedure", "format"}),
    breaks=frozenset(
        {
            ("removed", "sheet"),
            ("renamed", "sheet"),
            ("removed", "name"),
            ("removed", "column"),
            ("removed", "procedure"),
        }
    ),
)


def workbook_outline(book: Workbook, table: KindTable, called: dict[str, str] | None = None) -> Part:
    """Everything but the cells; ``called``: other names for sheets, by which their new selves are found."""
    maker = Maker(table)
    parts = [_sheet(maker, sheet, (called or {}).get(sheet.name, sheet.name)) for sheet in book.sheets]
    parts += [maker.part("name", name, name, {"refers to": where}) for name, where in book.names.items()]
    parts += [module_part(maker, name, code) for name, code in book.modules.items()]
    if book.properties:
        parts.append(maker.part("properties", "properties", "properties", book.properties))
    return maker.part("spreadsheet", "workbook", "", {}, parts)


def _sheet(maker: Maker, sheet: Sheet, name: str) -> Part:
    formats = {k: v for k, v in sheet.fields.items() if k.startswith("conditional format")}
    fields = {k: v for k, v in sheet.fields.items() if k not in formats}
    if sheet.hidden_rows:
        fields["hidden rows"] = ", ".join(str(n) for n in sorted(sheet.hidden_rows)[:200])
    if sheet.hidden_columns:
        fields["hidden columns"] = ", ".join(column_letters(n) for n in sorted(sheet.hidden_columns)[:200])
    below = [maker.part("validation", where, where, {"rule": rule}) for where, rule in sheet.validations.items()]
    below += [maker.part("format", k, k, {"rule": v}) for k, v in formats.items()]
    if sheet.merged:
        cells = ", ".join(sorted(sheet.merged)[:200])
        below.append(maker.part("merged cells", "merged cells", "merged cells", {"cells": cells}))
    return maker.part("sheet", name, name, fields, below)


def header_row(sheet: Sheet) -> int | None:
    """The first row that is nothing but different texts over more than one column, with other rows below it."""
    for number in itertools.islice(sheet.rows, 10):
        cells = [c for c in sheet.rows[number].values() if c.value is not None or c.formula is not None]
        texts = [c.value for c in cells if isinstance(c.value, str) and c.formula is None]
        if len(texts) > 1 and len(texts) == len(cells) == len(set(texts)) and len(cells) * 2 >= sheet.width:
            return number if number != max(sheet.rows) else None
    return None
