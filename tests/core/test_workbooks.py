"""Workbooks written by other programs' libraries: rows and columns aligned, formulas apart from values, modules."""

from __future__ import annotations

import datetime
import io
import unittest
import zipfile
from collections.abc import Callable
from typing import Any

import openpyxl
from hypothesis import given
from hypothesis import strategies as st
from odf.opendocument import OpenDocumentSpreadsheet
from odf.table import Table, TableCell, TableRow
from odf.text import P
from openpyxl.styles import Font
from openpyxl.worksheet.datavalidation import DataValidation

from everyshelf.core.compare.sentences import headline
from everyshelf.core.formats.formulas import follows, relative_formula, written_formula
from everyshelf.core.formats.workbooks import column_letters, column_number
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.tables.given import Given
from tests.support.factories import as_answer, compared, outlined
from tests.support.laws import law

Rows = list[list[Any]]


def xlsx(sheets: dict[str, Rows], change: Callable[[openpyxl.Workbook], object] | None = None) -> bytes:
    book = openpyxl.Workbook()
    book.remove(book.active)
    for name, rows in sheets.items():
        sheet = book.create_sheet(name)
        for row in rows:
            sheet.append(row)
    if change is not None:
        change(book)
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def ods(sheets: dict[str, Rows]) -> bytes:
    book = OpenDocumentSpreadsheet()
    for name, rows in sheets.items():
        table = Table(name=name)
        for row in rows:
            line = TableRow()
            for value in row:
                line.addElement(_ods_cell(value))
            table.addElement(line)
        book.spreadsheet.addElement(table)
    out = io.BytesIO()
    book.write(out)
    return out.getvalue()


def _ods_cell(value: Any) -> TableCell:
    if value is None:
        return TableCell()
    if isinstance(value, str) and value.startswith("="):
        return TableCell(formula=f"of:{value}", valuetype="float", value="0")
    if isinstance(value, int | float):
        return TableCell(valuetype="float", value=str(value))
    cell = TableCell(valuetype="string")
    cell.addElement(P(text=value))
    return cell


def fares(count: int = 12) -> Rows:
    rows: Rows = [["Route", "Adult", "Child", "From"]]
    rows += [[f"R{n}", 10 + n, f"=B{n + 2}*0.5", datetime.date(2026, 1, n + 1)] for n in range(count)]
    return [*rows, ["Total", f"=SUM(B2:B{count + 1})", f"=SUM(C2:C{count + 1})", None]]


def with_row(rows: Rows, at: int) -> Rows:
    """As a program does it: a row put in, and every formula that looks past it moved along."""
    longer = [list(r) for r in rows]
    longer.insert(at, ["R99", 55, None, datetime.date(2026, 2, 2)])
    for number, row in enumerate(longer[1:-1], 2):
        row[2] = f"=B{number}*0.5"
    end = len(longer) - 1
    longer[-1] = ["Total", f"=SUM(B2:B{end})", f"=SUM(C2:C{end})", None]
    return longer


def altering(found: dict[str, Any]) -> list[dict[str, Any]]:
    """What is not cosmetic: the library notes in every file when it was saved."""
    return [f for f in found["findings"] if f["effect"] != "cosmetic"]


def told(found: dict[str, Any]) -> set[tuple[Any, ...]]:
    return {
        (f["action"], f["type"], f["label"], f.get("field")) for f in found["findings"] if f["effect"] != "cosmetic"
    }


class AlignmentTests(unittest.TestCase):
    """Rows and columns."""

    def test_an_inserted_row_is_one_finding_though_every_formula_below_moved(self) -> None:
        for at in (2, 5, 12):
            with self.subTest(at=at):
                found = compared(xlsx({"Fares": fares()}), xlsx({"Fares": with_row(fares(), at)}), "f.xlsx")
                self.assertEqual(told(found), {("added", "rows", "1 row", None)})
                self.assertEqual(altering(found)[0]["detail"], str(at + 1))
                rows = found["tables"]["Fares"]["rows"]
                self.assertEqual(rows, {"added": 1, "removed": 0, "changed": 0, "before": 14, "after": 15})

    def test_an_inserted_column_is_one_finding_though_the_formulas_beside_it_moved(self) -> None:
        wider = [[r[0], r[1], "zone" if i else "Zone", *r[2:]] for i, r in enumerate(fares())]
        wider[-1][3] = "=SUM(D2:D13)"
        found = compared(xlsx({"Fares": fares()}), xlsx({"Fares": wider}), "f.xlsx")
        self.assertEqual(told(found), {("added", "column", "Zone", None)})

    def test_a_removed_column_breaks_and_a_renamed_one_is_told_as_such(self) -> None:
        narrow = [[r[0], r[1], r[2]] for r in fares()]
        found = compared(xlsx({"Fares": fares()}), xlsx({"Fares": narrow}), "f.xlsx")
        self.assertEqual(told(found), {("removed", "column", "From", None)})
        self.assertEqual(found["effects"]["breaks"], 1)
        renamed = [["Route", "Grown-up", "Child", "From"], *fares()[1:]]
        found = compared(xlsx({"Fares": fares()}), xlsx({"Fares": renamed}), "f.xlsx")
        self.assertEqual(told(found), {("renamed", "column", "Grown-up", None)})
        self.assertEqual(altering(found)[0]["before"], "Adult")

    def test_sorted_anew_is_cosmetic_and_a_change_in_a_moved_row_is_still_seen(self) -> None:
        plain = [["Pier", "Depth", "Lights"], *[[f"pier {n}", n * 1.5, n % 3] for n in range(30)]]
        turned = [plain[0], *plain[:0:-1]]
        found = compared(xlsx({"Piers": plain}), xlsx({"Piers": turned}), "p.xlsx")
        self.assertIn(("reordered", "cosmetic"), [(f["action"], f["effect"]) for f in found["findings"]])
        self.assertEqual(told(found), set())
        turned[4] = [turned[4][0], 99.5, turned[4][2]]
        found = compared(xlsx({"Piers": plain}), xlsx({"Piers": turned}), "p.xlsx")
        self.assertEqual(told(found), {("changed", "column", "Depth", None)})

    def test_a_sheet_with_another_name_and_the_same_content_was_renamed(self) -> None:
        found = compared(
            xlsx({"Fares": fares(), "Notes": [["a"]]}), xlsx({"Prices": fares(), "Notes": [["a"]]}), "f.xlsx"
        )
        self.assertEqual(told(found), {("renamed", "sheet", "Prices", None)})

    def test_sheets_added_removed_and_in_another_order(self) -> None:
        one, two = [["pier"], ["A"]], [["boat"], ["Tern"]]
        found = compared(
            xlsx({"Piers": one, "Boats": two}), xlsx({"Boats": two, "Crew": [["name"], ["Ida"]]}), "f.xlsx"
        )
        self.assertEqual(told(found), {("removed", "sheet", "Piers", None), ("added", "sheet", "Crew", None)})
        found = compared(xlsx({"Piers": one, "Boats": two}), xlsx({"Boats": two, "Piers": one}), "f.xlsx")
        self.assertNotIn("breaks", {f["effect"] for f in found["findings"]})
        self.assertTrue(found["findings"])

    @law(40)
    @given(st.lists(st.integers(0, 10**6), min_size=3, max_size=25, unique=True), st.data())
    def test_what_was_done_to_rows_is_what_is_told(self, keys: list[int], data: st.DataObject) -> None:
        rows = [[f"key {k}", k * 3, f"note {k % 7}"] for k in keys]
        gone = data.draw(st.sets(st.integers(0, len(rows) - 1), max_size=len(rows) // 3))
        left = [list(r) for n, r in enumerate(rows) if n not in gone]
        edited = data.draw(st.sets(st.integers(0, len(left) - 1), max_size=len(left) // 3)) if left else set()
        for n in edited:
            left[n][1] = left[n][1] + 1
        at = data.draw(st.integers(0, len(left)))
        fresh = [[f"new {n}", -n - 1, "added"] for n in range(data.draw(st.integers(0, 3)))]
        after = [*left[:at], *fresh, *left[at:]]
        header = [["Key", "Value", "Note"]]
        found = compared(xlsx({"S": header + rows}), xlsx({"S": header + after}), "s.xlsx")
        counts = found.get("tables", {}).get("S", {"rows": dict.fromkeys(("added", "removed", "changed"), 0)})["rows"]
        self.assertEqual((counts["added"], counts["removed"], counts["changed"]), (len(fresh), len(gone), len(edited)))


class CellTests(unittest.TestCase):
    """Values and formulas."""

    def edited(self, **cells: Any) -> dict[str, Any]:
        def change(book: openpyxl.Workbook) -> None:
            for place, value in cells.items():
                book["Fares"][place] = value

        return compared(xlsx({"Fares": fares()}), xlsx({"Fares": fares()}, change), "f.xlsx")

    def test_a_changed_value_is_told_with_its_place(self) -> None:
        found = self.edited(B7=99)
        [finding] = altering(found)
        self.assertEqual((finding["label"], finding["before"], finding["after"]), ("Adult", 15, 99))
        self.assertEqual(finding["detail"], "1 cell: B7")

    def test_a_changed_formula_is_no_changed_value(self) -> None:
        found = self.edited(C4="=B4*0.6")
        [finding] = altering(found)
        self.assertEqual((finding["field"], finding["before"], finding["after"]), ("formula", "=B4*0.5", "=B4*0.6"))

    def test_a_formula_replaced_by_its_value_is_told(self) -> None:
        [finding] = altering(self.edited(C4=6))
        self.assertEqual((finding["field"], finding["before"], finding["after"]), ("formula", "=B4*0.5", "6"))

    def test_one_formula_changed_in_a_whole_column_is_one_finding(self) -> None:
        found = self.edited(**{f"C{n}": f"=B{n}*0.6" for n in range(2, 14)})
        [finding] = altering(found)
        self.assertEqual(finding["detail"][:12], "12 formulas:")
        self.assertEqual((finding["before"], finding["after"]), ("=B2*0.5", "=B2*0.6"))

    def test_noise_in_the_last_bits_and_numbers_kept_as_text_are_cosmetic(self) -> None:
        for value in ("15", 15.0000000000001):
            with self.subTest(value=value):
                self.assertEqual({f["effect"] for f in self.edited(B7=value)["findings"]}, {"cosmetic"})

    def test_other_fonts_are_cosmetic(self) -> None:
        def bold(book: openpyxl.Workbook) -> None:
            book["Fares"]["A3"].font = Font(bold=True)

        found = compared(xlsx({"Fares": fares()}), xlsx({"Fares": fares()}, bold), "f.xlsx")
        self.assertEqual(
            {(f["field"], f["effect"]) for f in found["findings"]} & {("formatting", "cosmetic")},
            {("formatting", "cosmetic")},
        )
        self.assertEqual(told(found), set())

    def test_dates_are_dates_whatever_calendar_the_file_counts_in(self) -> None:
        def since_1904(book: openpyxl.Workbook) -> None:
            book.epoch = openpyxl.utils.datetime.CALENDAR_MAC_1904

        found = compared(xlsx({"Fares": fares()}), xlsx({"Fares": fares()}, since_1904), "f.xlsx")
        self.assertEqual(told(found), set())

    def test_the_grid_shows_the_cell_both_ways_and_skips_what_is_equal(self) -> None:
        grid = self.edited(B7=99)["tables"]["Fares"]["grid"]
        self.assertEqual([c["name"] for c in grid["columns"]], ["Route", "Adult", "Child", "From"])
        [row] = [r for r in grid["rows"] if r.get("state") == "changed"]
        self.assertEqual(row["cells"][1], {"value": 99, "state": "changed", "was": 15})
        self.assertEqual(sum(r.get("skipped", 1) for r in grid["rows"]), 14)


class BesideTheCellsTests(unittest.TestCase):
    """Names, validation, what is hidden, properties."""

    def found(self, change: Callable[[openpyxl.Workbook], object]) -> set[tuple[Any, ...]]:
        return told(compared(xlsx({"Fares": fares()}), xlsx({"Fares": fares()}, change), "f.xlsx"))

    def test_names_validation_and_hidden_things_are_told(self) -> None:
        def names(book: openpyxl.Workbook) -> None:
            book.defined_names["Rate"] = openpyxl.workbook.defined_name.DefinedName("Rate", attr_text="Fares!$B$2")

        def rule(book: openpyxl.Workbook) -> None:
            checked = DataValidation(type="whole", operator="between", formula1="0", formula2="99")
            checked.add("B2:B9")
            book["Fares"].add_data_validation(checked)

        def hidden(book: openpyxl.Workbook) -> None:
            book.create_sheet("Kept")
            book["Fares"].row_dimensions[4].hidden = True

        def state(book: openpyxl.Workbook) -> None:
            book.create_sheet("Kept")
            book["Fares"].sheet_state = "hidden"

        self.assertEqual(self.found(names), {("added", "name", "Rate", None)})
        self.assertEqual(self.found(rule), {("added", "validation", "B2:B9", None)})
        self.assertIn(("added", "sheet", "Fares", "hidden rows"), self.found(hidden))
        self.assertIn(("added", "sheet", "Fares", "state"), self.found(state))

    def test_who_saved_it_and_when_is_cosmetic(self) -> None:
        def author(book: openpyxl.Workbook) -> None:
            book.properties.creator = "Wren"
            book.properties.modified = datetime.datetime(2020, 1, 1)

        found = compared(xlsx({"Fares": fares()}), xlsx({"Fares": fares()}, author), "f.xlsx")
        self.assertEqual({f["effect"] for f in found["findings"]}, {"cosmetic"})


class OpenDocumentTests(unittest.TestCase):
    """The other standard, written by another library."""

    def test_rows_values_and_formulas(self) -> None:
        rows: Rows = [["Boat", "Seats", "Double"], *[[f"Boat {n}", 40 + n, f"=[.B{n + 2}]*2"] for n in range(9)]]
        later = [list(r) for r in rows]
        later.insert(4, ["Tern", 12, None])
        for number, row in enumerate(later[1:], 2):
            row[2] = f"=[.B{number}]*2"
        later[7][1] = 99
        found = compared(ods({"Boats": rows}), ods({"Boats": later}), "b.ods")
        self.assertEqual(told(found), {("added", "rows", "1 row", None), ("changed", "column", "Seats", None)})
        self.assertEqual(headline(as_answer(found)), "1 row changed, 1 row added")

    def test_the_same_cells_in_either_standard_are_equal(self) -> None:
        rows: Rows = [["Boat", "Seats"], ["Tern", 12], ["Skua", 40.5]]
        found = compared(xlsx({"Boats": rows}), ods({"Boats": rows}), "b.ods", old_name="b.xlsx")
        self.assertEqual(told(found), set())
        self.assertEqual(found["read_as"], "spreadsheet")

    def test_the_outline_shows_rows_and_formulas(self) -> None:
        rows: Rows = [["Boat", "Seats", "Double"], ["Tern", 12, "=[.B2]*2"]]
        shown = outlined(Given("b.ods", ods({"Boats": rows})), Rules())
        sheet = shown["tables"]["Boats"]
        self.assertEqual([c["name"] for c in sheet["columns"]], ["A Boat", "B Seats", "C Double"])
        self.assertEqual(sheet["rows"], [["Tern", "12", "0"]])
        self.assertEqual(sheet["formulas"], [{"row": 0, "column": 2, "formula": "=[.B2]*2"}])


class FormulaTests(unittest.TestCase):
    """Formulas relative to their cell."""

    def test_references_of_every_form(self) -> None:
        for formula, relative in {
            "=A1+$B$2": "=R[-2]C[-2]+R2C2",
            "=sum(A:A)+3:3": "=SUM(C[-2]:C[-2])+R[0]:R[0]",
            "=LOG10(C3)": "=LOG10(R[0]C[0])",
            "='My sheet'!A1&\"A1\"": "='My sheet'!R[-2]C[-2]&\"A1\"",
            "=Rate*C$1": "=RATE*R1C[0]",
        }.items():
            self.assertEqual(relative_formula(formula, 3, 3), relative, formula)

    @law(100)
    @given(st.integers(1, 500), st.integers(1, 60), st.integers(0, 300), st.integers(0, 40))
    def test_a_copy_that_moved_is_equal(self, row: int, column: int, down: int, right: int) -> None:
        def at(r: int, c: int) -> str:
            return f"=SUM({column_letters(c)}{r}:{column_letters(c + 1)}{r + 4})*$A$1"

        one = relative_formula(at(row, column), row, column + 3)
        self.assertEqual(one, relative_formula(at(row + down, column + right), row + down, column + right + 3))

    @law(100)
    @given(st.integers(5, 500), st.integers(5, 60), st.integers(-4, 9), st.integers(-4, 9), st.booleans())
    def test_a_shared_formula_is_written_as_its_cell_would_have_it(
        self, row: int, column: int, down: int, right: int, fixed: bool
    ) -> None:
        place = f"{column_letters(column + right)}{row + down}"
        formula = f"=SUM({place}:$C$4)*{'$D1' if fixed else 'D$2'}"
        self.assertEqual(written_formula(relative_formula(formula, row, column), row, column), formula)

    def test_a_formula_follows_rows_that_come(self) -> None:
        places = {"": ({5: 6}, {}, ""), "Rates": ({}, {2: 3}, "Prices")}
        self.assertTrue(follows("=SUM(B2:B5)", "=SUM(B2:B6)", places))
        self.assertTrue(follows("=Rates!B1*2", "=Prices!C1*2", places))
        self.assertFalse(follows("=SUM(B2:B5)", "=SUM(B2:B7)", places))

    @law(100)
    @given(st.integers(1, 16_384))
    def test_letters_and_numbers_of_columns_agree(self, number: int) -> None:
        self.assertEqual(column_number(column_letters(number)), number)


class OddFileTests(unittest.TestCase):
    """What other programs write."""

    def members(self, data: bytes) -> dict[str, bytes]:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            return {n: archive.read(n) for n in archive.namelist()}

    def packed(self, members: dict[str, bytes]) -> bytes:
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as archive:
            for name, content in members.items():
                archive.writestr(name, content)
        return out.getvalue()

    def test_cells_without_places_prefixes_and_shared_formulas(self) -> None:
        plain = self.members(xlsx({"S": [["Boat", "Seats", "Double"], ["Tern", 12, "=B2*2"], ["Skua", 14, "=B3*2"]]}))
        name = next(n for n in plain if "worksheets/sheet" in n)
        sheet = (
            b'<x:worksheet xmlns:x="http://purl.oclc.org/ooxml/spreadsheetml/main"><x:sheetData>'
            b'<x:row><x:c t="inlineStr"><x:is><x:r><x:t>Bo</x:t></x:r><x:r><x:t>at</x:t></x:r></x:is></x:c>'
            b'<x:c t="str"><x:v>Seats</x:v></x:c><x:c t="str"><x:v>Double</x:v></x:c></x:row>'
            b'<x:row><x:c t="str"><x:v>Tern</x:v></x:c><x:c><x:v>1.2E1</x:v></x:c>'
            b'<x:c><x:f t="shared" ref="C2:C3" si="0">B2*2</x:f></x:c></x:row>'
            b'<x:row><x:c t="str"><x:v>Skua</x:v></x:c><x:c><x:v>14</x:v></x:c><x:c><x:f t="shared" si="0"/></x:c></x:row>'
            b"</x:sheetData></x:worksheet>"
        )
        found = compared(self.packed(plain), self.packed({**plain, name: sheet}), "s.xlsx")
        self.assertEqual(told(found), set(), found["findings"])

    def test_a_workbook_without_its_sheet_says_so(self) -> None:
        plain = self.members(xlsx({"S": [["a"]]}))
        broken = {n: c for n, c in plain.items() if "worksheets/sheet" not in n}
        shown = outlined(Given("s.xlsx", self.packed(broken)), Rules())
        self.assertIn("missing", shown["note"])

    def test_the_binary_form_of_sheets_is_refused_in_words(self) -> None:
        shown = outlined(Given("s.xlsb", self.packed({"xl/workbook.bin": b"\1\2"})), Rules())
        self.assertEqual((shown["kind"], shown["read_as"]), ("spreadsheet", "bytes"))
        self.assertIn("saved as XLSX", shown["note"])


if __name__ == "__main__":
    unittest.main()
