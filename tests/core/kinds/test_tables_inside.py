"""Tables inside features and reports: columns are matched as those of any table, rows are told one by one."""

from __future__ import annotations

import unittest

from tests.support.factories import compared, told

HEAD = "Feature: Fares\n  Scenario Outline: fare\n    Given zone <zone>\n\n    Examples: adults\n"
ROWS = [("zone", "fare", "note"), ("1", "3.20", "a"), ("2", "4.40", "b"), ("3", "5.60", "c"), ("4", "7.10", "d")]


def feature(rows: list[tuple[str, ...]]) -> bytes:
    return (HEAD + "".join(f"      | {' | '.join(row)} |\n" for row in rows)).encode()


def report(rows: list[tuple[str, ...]]) -> bytes:
    lines = [rows[0], ("---",) * len(rows[0]), *rows[1:]]
    return ("# Fares\n\nAs of spring.\n\n" + "".join(f"| {' | '.join(row)} |\n" for row in lines)).encode()


def columns(rows: list[tuple[str, ...]], *places: int) -> list[tuple[str, ...]]:
    return [tuple(row[p] for p in places) for row in rows]


class InsideTests(unittest.TestCase):
    """The same in examples of a scenario and in a table of Markdown."""

    FORMS = ((feature, "f.feature", "/scenario:fare/examples:adults"), (report, "r.md", "/section:Fares/table:#1"))

    def test_a_cell_is_one_finding_at_its_row(self) -> None:
        new = [*ROWS[:2], ("2", "4.50", "b"), *ROWS[3:]]
        for written, name, path in self.FORMS:
            with self.subTest(name=name):
                found = told(compared(written(ROWS), written(new), name))
                self.assertEqual(found, [("changed", f"{path}/row:2", "fare", "4.40", "4.50")])

    def test_a_row_in_front_changes_no_other(self) -> None:
        for written, name, path in self.FORMS:
            with self.subTest(name=name):
                found = told(compared(written(ROWS), written([ROWS[0], ("0", "1.00", "z"), *ROWS[1:]]), name))
                self.assertEqual([(f[0], f[1]) for f in found], [("added", f"{path}/row:0")])

    def test_a_renamed_column_is_one_finding(self) -> None:
        for written, name, path in self.FORMS:
            with self.subTest(name=name):
                found = told(compared(written(ROWS), written([("zone", "price", "note"), *ROWS[1:]]), name))
                self.assertEqual(found, [("renamed", f"{path}/column:price", None, "fare", "price")])

    def test_columns_that_come_and_go_are_one_finding_each(self) -> None:
        more = [(*row, extra) for row, extra in zip(ROWS, ("pier", "A", "A", "B", "B"), strict=True)]
        for written, name, path in self.FORMS:
            with self.subTest(name=name):
                self.assertEqual(
                    [f[:2] for f in told(compared(written(ROWS), written(more), name))],
                    [("added", f"{path}/column:pier")],
                )
                self.assertEqual(
                    [f[:2] for f in told(compared(written(ROWS), written(columns(ROWS, 0, 1)), name))],
                    [("removed", f"{path}/column:note")],
                )

    def test_columns_in_another_order_mean_nothing(self) -> None:
        for written, name, _ in self.FORMS:
            with self.subTest(name=name):
                found = compared(written(ROWS), written(columns(ROWS, 2, 0, 1)), name)
                self.assertEqual([(f["action"], f["effect"]) for f in found["findings"]], [("reordered", "cosmetic")])

    def test_a_cell_beside_a_renamed_column_is_still_seen(self) -> None:
        new = [("zone", "price", "note"), *ROWS[1:4], ("4", "7.10", "e")]
        for written, name, path in self.FORMS:
            with self.subTest(name=name):
                found = told(compared(written(ROWS), written(new), name))
                self.assertEqual(found[0][:3], ("renamed", f"{path}/column:price", None))
                self.assertEqual([f[2:] for f in found[1:]], [("note", "d", "e")])


if __name__ == "__main__":
    unittest.main()
