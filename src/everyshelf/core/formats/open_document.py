"""Sheets of OpenDocument workbooks (OASIS ODF 1.3, part 3, 9), streamed with lxml."""

from __future__ import annotations

import re
from typing import Any

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.archives import Member
from everyshelf.core.formats.formulas import relative_open_formula
from everyshelf.core.formats.modules import modules_of_open_document
from everyshelf.core.formats.workbooks import MOST_CELLS, Cell, CellValue, Sheet, Workbook
from everyshelf.core.formats.xml import local_name, pulled

_MOST_REPEATED = 1_000  # beyond that, repeated rows and cells are the empty rest of the sheet
_GRAMMAR = re.compile(r"^[a-z]+:(?==)")
_CONTENT = "content.xml"


def read_ods(members: dict[str, Member]) -> Workbook:
    """The workbook; raises ``UnreadableError``."""
    if _CONTENT not in members:
        raise UnreadableError("there is no content.xml in it")
    refuse_encrypted(members)
    book = Workbook(properties=open_document_properties(members), modules=modules_of_open_document(members))
    reader: _Table | None = None
    wanted = ("table-row", "table", "named-range", "named-expression", "table-column", "content-validation")
    rules: dict[str, str] = {}
    for element in pulled(members[_CONTENT], wanted, open_too=("table",)):
        name = local_name(element.tag)
        if name == "table" and (reader is None or reader.element is not element):
            reader = _Table(element)
            book.sheets.append(reader.sheet)
        elif name == "table":
            reader = None
        elif name == "content-validation":
            rules[_own(element, "name")] = _own(element, "condition")
        elif name in ("named-range", "named-expression"):
            said = _own(element, "cell-range-address") or _own(element, "expression")
            book.names[_own(element, "name")] = said
        elif reader is not None:
            reader.row(element) if name == "table-row" else reader.column(element)
    for sheet in book.sheets:
        sheet.validations = {where: rules.get(rule, rule) for where, rule in sheet.validations.items()}
    return book


def refuse_encrypted(members: dict[str, Member]) -> None:
    """Raises ``UnreadableError`` for a file whose list of members says that they are encrypted."""
    listed = members.get("META-INF/manifest.xml")
    if listed is not None and b"encryption-data" in listed.read():
        raise UnreadableError("it is encrypted with a password")


def open_document_properties(members: dict[str, Member]) -> dict[str, str]:
    """What ``meta.xml`` says of the file."""
    found: dict[str, str] = {}
    if "meta.xml" in members:
        for element in pulled(members["meta.xml"], ("meta",)):
            for child in element:
                if isinstance(child.tag, str) and (child.text or "").strip():
                    found[local_name(child.tag)] = (child.text or "").strip()
    return found


def _own(element: Any, name: str) -> str:
    return next((str(v) for k, v in element.attrib.items() if local_name(str(k)) == name), "")


class _Table:
    def __init__(self, element: Any) -> None:
        self.element = element
        self.sheet = Sheet(_own(element, "name"))
        if _own(element, "protected") == "true":
            self.sheet.fields["protection"] = "on"
        self._row = self._column = 0
        self._count = 0

    def column(self, element: Any) -> None:
        repeated = int(_own(element, "number-columns-repeated") or 1)
        if _own(element, "visibility") in ("collapse", "filter"):
            self.sheet.hidden_columns.update(range(self._column + 1, self._column + 1 + min(repeated, _MOST_REPEATED)))
        self._column += repeated

    def row(self, element: Any) -> None:
        repeated = int(_own(element, "number-rows-repeated") or 1)
        first = self._row + 1
        self._row += repeated
        hidden = _own(element, "visibility") in ("collapse", "filter")
        for number in range(first, first + min(repeated, _MOST_REPEATED)):
            cells = self._cells(element, number)
            if cells:
                self.sheet.rows[number] = cells
                if hidden:
                    self.sheet.hidden_rows.add(number)
            else:
                break  # a repeated row that holds nothing
        if self._count > MOST_CELLS:
            raise UnreadableError(f"the sheet {self.sheet.name} has more than {MOST_CELLS:,} cells")

    def _cells(self, element: Any, row: int) -> dict[int, Cell]:
        cells: dict[int, Cell] = {}
        column = 0
        for child in element:
            name = local_name(child.tag) if isinstance(child.tag, str) else ""
            if name not in ("table-cell", "covered-table-cell"):
                continue
            given = {local_name(str(k)): str(v) for k, v in child.attrib.items()}
            repeated = int(given.get("number-columns-repeated") or 1)
            value = _value(given, child)
            formula = _GRAMMAR.sub("", given["formula"]) if given.get("formula") else None
            if given.get("number-columns-spanned", "1") != "1" or given.get("number-rows-spanned", "1") != "1":
                over = f"{given.get('number-columns-spanned')} × {given.get('number-rows-spanned')}"
                self.sheet.merged.append(f"{row}:{column + 1} over {over}")
            if given.get("content-validation-name"):
                self.sheet.validations[f"{row}:{column + 1}"] = given["content-validation-name"]
            if value is not None or formula is not None:
                look = _look(given, child)
                for at in range(column + 1, column + 1 + min(repeated, _MOST_REPEATED)):
                    relative = relative_open_formula(formula, row, at) if formula is not None else None
                    cells[at] = Cell(value, formula, relative, look)
                    self._count += 1
            column += repeated
        return cells


def _look(given: dict[str, str], element: Any) -> str | None:
    """What decides how a cell looks: its style, the text shown for a number or a date, a remark pinned to it."""
    style, shown = given.get("style-name"), []
    typed = given.get("value-type") not in (None, "string")
    for child in element:
        name = local_name(child.tag) if isinstance(child.tag, str) else ""
        if (typed and name == "p") or name == "annotation":
            shown.append("".join(child.itertext()))
    return "\n".join([style or "", *shown]) if shown else style


def _value(given: dict[str, str], element: Any) -> CellValue:
    kind = given.get("value-type") or given.get("calcext:value-type") or ""
    if kind in ("float", "percentage", "currency"):
        try:
            number = float(given.get("value", ""))
        except ValueError:
            return given.get("value")
        return int(number) if number.is_integer() and abs(number) < 1e15 else number
    if kind == "boolean":
        return given.get("boolean-value") == "true"
    if kind == "date":
        return given.get("date-value", "").removesuffix("T00:00:00")
    if kind == "time":
        return given.get("time-value")
    if given.get("string-value"):
        return given["string-value"]
    lines = [text_of(p) for p in element if isinstance(p.tag, str) and local_name(p.tag) in ("p", "h")]
    return "\n".join(lines) if any(lines) else None


def text_of(element: Any) -> str:
    """The text of a paragraph: runs of blanks, tabs and line breaks have elements of their own; notes stand aside."""
    pieces = [element.text or ""]
    for child in element:
        name = local_name(child.tag) if isinstance(child.tag, str) else "comment"
        if name == "s":
            pieces.append(" " * min(int(_own(child, "c") or 1), 1_000))
        elif name == "tab":
            pieces.append("\t")
        elif name == "line-break":
            pieces.append("\n")
        elif name not in ("annotation", "annotation-end", "comment", "note", "soft-page-break"):
            pieces.append(text_of(child))
        pieces.append(child.tail or "")
    return "".join(pieces)
