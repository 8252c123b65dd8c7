"""Workbooks of the ticket office, written member by member as the standards say: Office Open XML and OpenDocument."""

from __future__ import annotations

import io
import zipfile
from xml.sax.saxutils import escape, quoteattr

from everyshelf.demo.compound import project
from everyshelf.demo.pair import Pair

Rows = list[list[str | float | int | None]]  # a text that starts with "=" is a formula
_MONTHS = ("January", "February", "March", "April", "May", "June", "July", "August", "September")
_MAIN = 'xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"'
_OFFICE = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
_PROJECT = "application/vnd.ms-office.vbaProject"
_PROJECT_LINK = "http://schemas.microsoft.com/office/2006/relationships/vbaProject"
_PACKAGE = "http://schemas.openxmlformats.org/package/2006"


def workbook_pairs() -> list[Pair]:
    """One in each form: a budget with a row put in, a rate changed; a duty plan whose module counts anew."""
    plan, later = _plan(), _plan()
    later[3][2] = "Wren"
    module = "Sub CountHours()\n  total = Sum(range)\n  MsgBox total\nEnd Sub\n"
    return [
        Pair(
            "workbooks/budget.xlsx",
            "spreadsheet",
            xlsx(_budget(), {"VatRate": "Rates!$B$2"}),
            xlsx(_budget(dearer=True), {"VatRate": "Rates!$B$2", "Reserve": "Rates!$B$4"}),
            "1 name added, 2 rows changed, 1 row added",
        ),
        Pair(
            "workbooks/cash-desk.xlsm",
            "spreadsheet",
            xlsx(_desk(), {}, {"Closing": _CLOSING}),
            xlsx(_desk(), {}, {"Closing": _CLOSING.replace("0.05", "0.1"), "Floats": _FLOATS}),
            "1 procedure changed, 1 module added",
        ),
        Pair(
            "workbooks/duty-plan.ods",
            "spreadsheet",
            ods({"Plan": plan}, module),
            ods({"Plan": later}, module.replace("MsgBox total", "MsgBox total + 0.5")),
            "1 procedure changed, 1 row changed",
        ),
    ]


_CLOSING = """Sub CloseDesk()
  ' rounds to the smallest coin
  total = Round(Sum(Range("B2:B6")) / 0.05) * 0.05
  Range("B7").Value = total
End Sub
"""
_FLOATS = """Function FloatOf(desk)
  FloatOf = 120
End Function
"""


def _desk() -> dict[str, Rows]:
    rows: Rows = [["Coin", "Count"]]
    for n, coin in enumerate(("2", "1", "0.5", "0.2", "0.1")):
        rows.append([coin, 40 + 7 * n])
    return {"Desk": rows}


def _budget(*, dearer: bool = False) -> dict[str, Rows]:
    costs: Rows = [["Month", "Tickets", "Fuel", "Wages", "Left over"]]
    for n, month in enumerate(_MONTHS):
        costs.append([month, 9_200 + 640 * n, 2_100 + 35 * n, 4_800, None])
    if dearer:
        costs.insert(6, ["Race week", 6_150, 900, 1_300, None])
        costs[3][2] = 2_480
    for number, row in enumerate(costs[1:], 2):
        row[4] = f"=B{number}-C{number}-D{number}*(1+VatRate)"
    end = len(costs)
    costs.append(["Year", *(f"=SUM({c}2:{c}{end})" for c in "BCDE")])
    rates: Rows = [["Rate", "Value"], ["VAT", 0.2 if not dearer else 0.21], ["Mooring", 38], ["Reserve", 1_500]]
    return {"Costs": costs, "Rates": rates}


def _plan() -> Rows:
    people = ("Maren", "Oskar", "Ida", "Wren", "Tilo")
    rows: Rows = [["Day", "Morning", "Evening", "Hours"]]
    for day in range(1, 15):
        rows.append([f"2026-07-{day:02}", people[day % 5], people[(day + 2) % 5], "=8+7.5"])
    return rows


def packed(members: dict[str, str | bytes], *, stored: tuple[str, ...] = ()) -> bytes:
    """A zip of members in that order, with the same time stamp for all."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for name, content in members.items():
            info = zipfile.ZipInfo(name, (2026, 1, 2, 8, 0, 0))
            info.compress_type = zipfile.ZIP_STORED if name in stored else zipfile.ZIP_DEFLATED
            archive.writestr(info, content)
    return out.getvalue()


# --- Office Open XML (ECMA-376) ----------------------------------------------------


def xlsx(sheets: dict[str, Rows], names: dict[str, str], modules: dict[str, str] | None = None) -> bytes:
    """A workbook with texts in place and no styles; ``modules`` of scripts make it one with a project."""
    types = "".join(
        f'<Override PartName="/xl/worksheets/sheet{n}.xml" '
        'ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.worksheet+xml"/>'
        for n in range(1, len(sheets) + 1)
    )
    listed = "".join(f'<sheet name={quoteattr(name)} sheetId="{n}" r:id="rId{n}"/>' for n, name in enumerate(sheets, 1))
    defined = "".join(f"<definedName name={quoteattr(n)}>{escape(where)}</definedName>" for n, where in names.items())
    links = "".join(
        f'<Relationship Id="rId{n}" Type="{_OFFICE}/worksheet" Target="worksheets/sheet{n}.xml"/>'
        for n in range(1, len(sheets) + 1)
    )
    main = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet.main+xml"
    if modules:
        main = "application/vnd.ms-excel.sheet.macroEnabled.main+xml"
        types += f'<Override PartName="/xl/vbaProject.bin" ContentType="{_PROJECT}"/>'
        links += f'<Relationship Id="rId{len(sheets) + 1}" Type="{_PROJECT_LINK}" Target="vbaProject.bin"/>'
    return packed(
        {
            "[Content_Types].xml": f'<Types xmlns="{_PACKAGE}/content-types">'
            '<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>'
            f'<Override PartName="/xl/workbook.xml" ContentType="{main}"/>{types}</Types>',
            "_rels/.rels": f'<Relationships xmlns="{_PACKAGE}/relationships">'
            f'<Relationship Id="rId1" Type="{_OFFICE}/officeDocument" Target="xl/workbook.xml"/></Relationships>',
            "xl/workbook.xml": f'<workbook {_MAIN} xmlns:r="{_OFFICE}"><sheets>{listed}</sheets>'
            f"<definedNames>{defined}</definedNames></workbook>",
            "xl/_rels/workbook.xml.rels": f'<Relationships xmlns="{_PACKAGE}/relationships">{links}</Relationships>',
            **({"xl/vbaProject.bin": project(modules)} if modules else {}),
            **{f"xl/worksheets/sheet{n}.xml": _xlsx_sheet(rows) for n, rows in enumerate(sheets.values(), 1)},
        }
    )


def _xlsx_sheet(rows: Rows) -> str:
    lines = []
    for number, row in enumerate(rows, 1):
        cells = "".join(_xlsx_cell(f"{chr(65 + k)}{number}", value) for k, value in enumerate(row) if value is not None)
        lines.append(f'<row r="{number}">{cells}</row>')
    return f"<worksheet {_MAIN}><sheetData>{''.join(lines)}</sheetData></worksheet>"


def _xlsx_cell(place: str, value: str | float) -> str:
    if isinstance(value, str) and value.startswith("="):
        return f'<c r="{place}"><f>{escape(value[1:])}</f></c>'
    if isinstance(value, str):
        return f'<c r="{place}" t="inlineStr"><is><t>{escape(value)}</t></is></c>'
    return f'<c r="{place}"><v>{value}</v></c>'


# --- OpenDocument (OASIS ODF 1.3) --------------------------------------------------

_NAMES = " ".join(
    f'xmlns:{short}="urn:oasis:names:tc:opendocument:xmlns:{name}:1.0"'
    for short, name in (("office", "office"), ("table", "table"), ("text", "text"), ("manifest", "manifest"))
)


def open_document(kind: str, body: str, more: dict[str, str] | None = None) -> bytes:
    """An OpenDocument file of that kind ("text", "spreadsheet") around the content of its body."""
    media = f"application/vnd.oasis.opendocument.{kind}"
    content = f'<office:document-content {_NAMES} office:version="1.3"><office:body>{body}</office:body>'
    listed = f'<manifest:file-entry manifest:full-path="/" manifest:media-type="{media}"/>'
    members: dict[str, str | bytes] = {
        "mimetype": media,
        "content.xml": f"{content}</office:document-content>",
        "META-INF/manifest.xml": f"<manifest:manifest {_NAMES}>{listed}</manifest:manifest>",
        **(more or {}),
    }
    return packed(members, stored=("mimetype",))


def ods(sheets: dict[str, Rows], module: str) -> bytes:
    """A workbook with one module of a script."""
    tables = "".join(
        f"<table:table table:name={quoteattr(name)}>{''.join(_ods_row(row) for row in rows)}</table:table>"
        for name, rows in sheets.items()
    )
    script = (
        '<script:module xmlns:script="http://openoffice.org/2000/script" script:name="Hours">'
        f"{escape(module)}</script:module>"
    )
    return open_document(
        "spreadsheet", f"<office:spreadsheet>{tables}</office:spreadsheet>", {"Basic/Standard/Hours.xml": script}
    )


def _ods_row(row: list[str | float | int | None]) -> str:
    cells = []
    for value in row:
        if value is None:
            cells.append("<table:table-cell/>")
        elif isinstance(value, str) and value.startswith("="):
            cells.append(f'<table:table-cell table:formula="of:{escape(value)}"/>')
        elif isinstance(value, str):
            cells.append(
                f'<table:table-cell office:value-type="string"><text:p>{escape(value)}</text:p></table:table-cell>'
            )
        else:
            cells.append(f'<table:table-cell office:value-type="float" office:value="{value}"/>')
    return f"<table:table-row>{''.join(cells)}</table:table-row>"
