"""Sheets of Office Open XML workbooks (ECMA-376, part 1, 18), transitional and strict, streamed with lxml.

Cells are read one element at a time and not through a workbook object: a sheet is then as large as its values, formulas
that share one text need no copies, and files that break a rule the values do not depend on can still be read.
"""

from __future__ import annotations

import hashlib
import posixpath
import re
from collections.abc import Iterator
from functools import lru_cache
from typing import Any

from lxml import etree

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.archives import Member
from everyshelf.core.formats.formulas import relative_formula, written_formula
from everyshelf.core.formats.modules import modules_of_member
from everyshelf.core.formats.workbooks import MOST_CELLS, Cell, CellValue, Sheet, Workbook, column_number
from everyshelf.core.formats.xml import local_name, pulled

_LETTERS = re.compile(r"[A-Za-z]{1,3}")
_OPTIONS = {
    "sheetProtection": "protection",
    "autoFilter": "filter",
    "tabColor": "tab colour",
}


def read_xlsx(members: dict[str, Member]) -> Workbook:
    """The workbook; raises ``UnreadableError``."""
    # Some writers part names by backslashes, or do not keep to their own capitals.
    members = {name.replace("\\", "/").lower(): member for name, member in members.items()}
    home = _workbook_part(members)
    links = _relations(members, home)
    root = _tree(members, home)
    book = Workbook(properties=_properties(members))
    texts = _shared_texts(members, next((t for k, t in links.values() if k == "sharedStrings"), ""))
    styles = _Styles(members, next((t for k, t in links.values() if k == "styles"), ""))
    is_1904 = any(local_name(e.tag) == "workbookPr" and e.get("date1904") in ("1", "true") for e in root)
    for element in _below(root, "sheets"):
        link = next((v for k, v in element.attrib.items() if local_name(str(k)) == "id"), "")
        kind, target = links.get(str(link), ("", ""))
        if target not in members:
            book.notes.append(f"the sheet {element.get('name')} is missing in the file")
            continue
        sheet = Sheet(str(element.get("name") or ""))
        if element.get("state", "visible") != "visible":
            sheet.fields["state"] = "hidden" if element.get("state") == "hidden" else "hidden from its menus too"
        if kind == "worksheet":
            _Cells(sheet, texts, styles, is_1904=is_1904).read(members[target])
        else:
            sheet.fields["type"] = kind or "unknown"
        book.sheets.append(sheet)
    for element in _below(root, "definedNames"):
        name, scope = str(element.get("name") or ""), element.get("localSheetId")
        if not name.startswith("_xlnm._FilterDatabase"):
            where = f" on {_sheet_at(book, scope)}" if scope is not None else ""
            book.names[name + where] = (element.text or "").strip()
    project = next((n for n in members if n.endswith("vbaproject.bin")), None)
    if project is not None:
        book.modules, problem = modules_of_member(members[project].read())
        if problem:
            book.notes.append(problem)
            book.unread.add(project.lower())
    return book


def _sheet_at(book: Workbook, scope: str) -> str:
    return book.sheets[int(scope)].name if scope.isdigit() and int(scope) < len(book.sheets) else f"sheet {scope}"


def _workbook_part(members: dict[str, Member]) -> str:
    if "_rels/.rels" in members:
        for kind, target in _relations(members, "").values():
            if kind == "officeDocument" and target in members:
                return target
    found = next((n for n in members if n.endswith("xl/workbook.xml")), None)
    if found is None:
        raise UnreadableError("there is no workbook in it")
    return found


def _relations(members: dict[str, Member], part: str) -> dict[str, tuple[str, str]]:
    """Id -> (last word of the type, member) of what a part refers to."""
    folder, name = posixpath.split(part)
    listed = posixpath.join(folder, "_rels", f"{name}.rels")
    if listed not in members:
        return {}
    found = {}
    for element in _tree(members, listed):
        target = str(element.get("Target") or "").replace("\\", "/")
        place = target.lstrip("/") if target.startswith("/") else posixpath.normpath(posixpath.join(folder, target))
        found[str(element.get("Id"))] = (str(element.get("Type") or "").rpartition("/")[2], place.lower())
    return found


def _tree(members: dict[str, Member], name: str) -> Any:
    parser = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, recover=True)
    try:
        root = etree.fromstring(members[name].read(), parser)
    except (etree.XMLSyntaxError, ValueError) as error:
        raise UnreadableError(f"{name} is not XML: {error}") from error
    if root is None:
        raise UnreadableError(f"{name} is empty")
    return root


def _below(root: Any, name: str) -> Iterator[Any]:
    for element in root:
        if isinstance(element.tag, str) and local_name(element.tag) == name:
            yield from (e for e in element if isinstance(e.tag, str))


def _properties(members: dict[str, Member]) -> dict[str, str]:
    found: dict[str, str] = {}
    for name in ("docprops/core.xml", "docprops/app.xml"):
        if name in members:
            for element in _tree(members, name):
                if isinstance(element.tag, str) and len(element) == 0 and (element.text or "").strip():
                    found[local_name(element.tag)] = (element.text or "").strip()
    return found


def _shared_texts(members: dict[str, Member], name: str) -> list[str]:
    texts: list[str] = []
    if name in members:
        for element in pulled(members[name], ("si",)):
            texts.append(_text_of(element))
    return texts


def _text_of(element: Any) -> str:
    """All runs of a text, without how it is to be pronounced."""
    pieces: list[str] = []
    for child in element:
        if not isinstance(child.tag, str):
            continue
        name = local_name(child.tag)
        if name == "t":
            pieces.append(child.text or "")
        elif name == "r":
            pieces.append(_text_of(child))
    return "".join(pieces)


class _Styles:
    """What a cell looks like, by the number of its style: a digest that stays the same when styles are renumbered."""

    def __init__(self, members: dict[str, Member], name: str) -> None:
        self._looks: list[str] = []
        self._dates: list[bool] = []
        if name in members:
            self._read(_tree(members, name))

    def _read(self, root: Any) -> None:
        from openpyxl.styles.numbers import BUILTIN_FORMATS, is_date_format

        lists = {n: [etree.tostring(e, method="c14n") for e in _below(root, n)] for n in ("fonts", "fills", "borders")}
        formats = {e.get("numFmtId"): e.get("formatCode") or "" for e in _below(root, "numFmts")}
        for style in _below(root, "cellXfs"):
            number = style.get("numFmtId") or "0"
            code = formats.get(number) or BUILTIN_FORMATS.get(int(number) if number.isdigit() else 0, "General")
            parts = [code.encode()]
            for name, ids in (("fonts", "fontId"), ("fills", "fillId"), ("borders", "borderId")):
                place = style.get(ids) or "0"
                held = lists[name]
                parts.append(held[int(place)] if place.isdigit() and int(place) < len(held) else b"")
            parts += [etree.tostring(e, method="c14n") for e in style]
            self._looks.append(hashlib.blake2b(b"\0".join(parts), digest_size=6).hexdigest())
            self._dates.append(bool(is_date_format(code)))

    def look(self, number: int) -> str | None:
        """None for what has no style, and for the first style, which is that of every plain cell."""
        return self._looks[number] if 0 < number < len(self._looks) else None

    def is_date(self, number: int) -> bool:
        """True if numbers of that style are shown as dates or times."""
        return number < len(self._dates) and self._dates[number]


class _Cells:
    """Reads one sheet."""

    def __init__(self, sheet: Sheet, texts: list[str], styles: _Styles, *, is_1904: bool) -> None:
        self._sheet, self._texts, self._styles, self._is_1904 = sheet, texts, styles, is_1904
        self._shared: dict[str, str] = {}
        self._count = 0

    def read(self, member: Member) -> None:
        self._sheet.checksum = member.checksum
        number = 0
        wanted = ("row", "col", "mergeCell", "dataValidation", "cfRule", *_OPTIONS)
        for element in pulled(member, wanted):
            name = local_name(element.tag)
            if name == "row":
                number = _whole(element.get("r")) or number + 1
                if element.get("hidden") in ("1", "true"):
                    self._sheet.hidden_rows.add(number)
                cells = self._row(element, number)
                if cells:
                    self._sheet.rows[number] = cells
            else:
                self._option(name, element)

    def _row(self, element: Any, row: int) -> dict[int, Cell]:
        cells: dict[int, Cell] = {}
        column = 0
        for c in element:
            if not isinstance(c.tag, str) or local_name(c.tag) != "c":
                continue
            column = _column_of(c.get("r") or "") or column + 1
            cell = self._cell(c, row, column)
            if cell.value is not None or cell.formula is not None:
                cells[column] = cell
                self._count += 1
        if self._count > MOST_CELLS:
            raise UnreadableError(f"the sheet {self._sheet.name} has more than {MOST_CELLS:,} cells")
        return cells

    def _cell(self, c: Any, row: int, column: int) -> Cell:
        value: CellValue = None
        formula = relative = None
        kind, style = c.get("t") or "n", _whole(c.get("s"))
        for child in c:
            name = local_name(child.tag) if isinstance(child.tag, str) else ""
            if name == "v":
                value = self._value(child.text or "", kind, style)
            elif name == "is":
                value = _text_of(child)
            elif name == "f":
                formula, relative = self._formula(child, row, column)
        return Cell(value, formula, relative, self._styles.look(style))

    def _value(self, text: str, kind: str, style: int) -> CellValue:
        if kind == "s":
            place = _whole(text)
            return self._texts[place] if place < len(self._texts) else f"missing text {place}"
        if kind == "b":
            return text.strip() in ("1", "true")
        if kind != "n":
            return text  # a formula's text, an error, a date in ISO 8601
        return self._number(text, style)

    def _number(self, text: str, style: int) -> CellValue:
        try:
            number = float(text)
        except ValueError:
            return text or None
        if self._styles.is_date(style) and (date := _as_date(number, self._is_1904)) is not None:
            return date
        return int(number) if number.is_integer() and abs(number) < 1e15 else number

    def _formula(self, element: Any, row: int, column: int) -> tuple[str | None, str | None]:
        text, shared = element.text or "", element.get("si")
        if element.get("t") == "shared" and shared is not None:
            if text:
                self._shared[shared] = relative_formula(text, row, column)
            relative = self._shared.get(shared)
            if text or relative is None:
                return f"={text}" if text else None, relative
            return written_formula(relative, row, column), relative
        if not text:
            return None, None
        kind = " {array}" if element.get("t") == "array" else ""
        return f"={text}", relative_formula(text, row, column) + kind

    def _option(self, name: str, element: Any) -> None:
        sheet = self._sheet
        if name == "mergeCell":
            sheet.merged.append(str(element.get("ref")))
        elif name == "col":
            if element.get("hidden") in ("1", "true"):
                last = min(_whole(element.get("max")), _whole(element.get("min")) + 20_000)
                sheet.hidden_columns.update(range(_whole(element.get("min")), last + 1))
        elif name == "dataValidation":
            sheet.validations[str(element.get("sqref"))] = _validation(element)
        elif name == "cfRule":
            over = element.getparent()
            where = over.get("sqref") if over is not None else ""
            said = " ".join([str(element.get("type")), *(e.text or "" for e in element.iter() if e.text)])
            sheet.fields[f"conditional format of {where}"] = " ".join(said.split())
        else:
            said = element.get("ref") or element.get("rgb") or element.get("theme") or "on"
            sheet.fields[_OPTIONS[name]] = str(said)


@lru_cache(20_000)
def _column_named(letters: str) -> int:
    return column_number(letters) if _LETTERS.fullmatch(letters) else 0


def _column_of(place: str) -> int:
    """The column a cell says it is in; 0 if it does not say."""
    return _column_named(place.rstrip("0123456789"))


def _validation(element: Any) -> str:
    formulas = [e.text or "" for e in element if isinstance(e.tag, str)]
    pieces = [element.get("type") or "any", element.get("operator") or "", *formulas]
    return " ".join(p for p in pieces if p)


def _whole(text: str | None) -> int:
    return int(text) if text is not None and text.strip().isdigit() else 0


def _as_date(number: float, is_1904: bool) -> str | None:
    from openpyxl.utils.datetime import CALENDAR_MAC_1904, CALENDAR_WINDOWS_1900, from_excel

    try:
        found = from_excel(number, CALENDAR_MAC_1904 if is_1904 else CALENDAR_WINDOWS_1900)
    except (ValueError, OverflowError, TypeError):
        return None
    text = found.isoformat() if hasattr(found, "isoformat") else str(found)
    return text.removesuffix("T00:00:00")
