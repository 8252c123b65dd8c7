"""Tables without a key: noise is the same row, few changed cells are a changed row, and the right one is shown; how a
delimited text is taken apart; which column is taken for the key."""

from __future__ import annotations

import random
import unittest
from typing import Any

import numpy as np

from tests.support.factories import compared

Row = tuple[Any, ...]


def text(rows: list[Row], header: str = "zone,kind,fare,note", delimiter: str = ",") -> bytes:
    lines = [header.replace(",", delimiter), *(delimiter.join(map(str, row)) for row in rows)]
    return ("\n".join(lines) + "\n").encode()


class UnkeyedTests(unittest.TestCase):
    """Rows that repeat, so that nothing is a key."""

    def setUp(self) -> None:
        rng = random.Random(1)
        self.rows: list[Row] = [
            (rng.choice("ABC"), rng.choice(["adult", "child"]), rng.uniform(1, 99), rng.choice("xyz"))
            for _ in range(1000)
        ]
        self.rows += self.rows[:40]

    def noisy(self, share: float, rows: list[Row]) -> list[Row]:
        rng = random.Random(2)
        return [(a, b, f * (1 + rng.uniform(-share, share)), d) for a, b, f, d in rows]

    def table(self, old: list[Row], new: list[Row]) -> dict[str, Any]:
        found = compared(text(old), text(new), "t.csv")
        self.assertEqual(found["table"]["key"], [])
        return found

    def check_rows(self, found: dict[str, Any], **wanted: int) -> None:
        rows = {name: found["table"]["rows"][name] for name in ("added", "removed", "changed")}
        self.assertEqual(rows, {"added": 0, "removed": 0, "changed": 0, **wanted})

    def test_noise_is_representation(self) -> None:
        found = self.table(self.rows, self.noisy(1e-13, self.rows))
        self.check_rows(found)
        self.assertEqual(found["effects"], {"breaks": 0, "alters": 0, "cosmetic": 1})

    def test_single_precision_is_rounding(self) -> None:
        single = [(a, b, float(np.float32(f)), d) for a, b, f, d in self.rows]
        found = self.table(self.rows, single)
        self.check_rows(found)
        self.assertIn("rounded", found["findings"][0]["detail"])

    def test_few_changed_cells_are_changed_rows(self) -> None:
        edited = self.noisy(1e-13, self.rows)
        edited[5] = (*edited[5][:3], "told by hand")
        edited[900] = (*edited[900][:2], 12.5, edited[900][3])
        found = self.table(self.rows, edited)
        self.check_rows(found, changed=2)
        self.assertEqual([d["rows"] for d in found["table"]["details"]], [(6, 6), (901, 901)])
        self.assertEqual(found["table"]["cells"]["note"]["changed"], 1)

    def test_rows_that_come_and_go_are_none_of_those(self) -> None:
        edited: list[Row] = [("Z", "crew", 3.25, "x"), *self.rows]
        edited[70] = (*edited[70][:3], "told by hand")
        del edited[800]
        found = self.table(self.rows, edited)
        self.check_rows(found, added=1, removed=1, changed=1)

    def test_of_equal_rows_the_one_that_changed_is_shown(self) -> None:
        old: list[Row] = [("A", "x", 1, "p")] * 5 + [("B", "y", 2, "q")] * 5
        new = list(old)
        new[3] = ("A", "x", 1, "told by hand")
        found = self.table(old, new)
        self.check_rows(found, changed=1)
        self.assertEqual(found["table"]["details"][0]["rows"], (4, 4))

    def test_all_rows_with_another_value_are_not_unrelated(self) -> None:
        found = self.table(self.rows, [(a, b, f, d + "!") for a, b, f, d in self.rows])
        self.assertFalse(found["table"]["unrelated"])
        self.check_rows(found, changed=len(self.rows))

    def test_ties_count_as_rounding_only_where_other_cells_were_rounded(self) -> None:
        values = [n * 1.237 for n in range(60)] + [10.125, 20.375, 30.625]
        old = [(n, f"{v:.3f}") for n, v in enumerate(values)]
        up = [(n, f"{v + 1e-9:.2f}") for n, v in enumerate(values)]
        found = compared(text(old, "id,v"), text(up, "id,v"), "t.csv", key=["id"])
        self.assertEqual(found["table"]["cells"]["v"]["changed"], 0)
        whole = compared(
            text([(n, n) for n in range(60)], "id,v"), text([(n, f"{n}.5") for n in range(60)], "id,v"), "t.csv"
        )
        self.assertEqual(whole["table"]["cells"]["v"]["changed"], 60)


class DialectTests(unittest.TestCase):
    """What the lines of a text are."""

    def columns(self, data: bytes) -> list[str]:
        again = data + b"\n"
        found = compared(data, again.replace(b"Aldwick", b"Corran"), "t.tsv")
        return [c["name"] for c in found["table"]["schema"]["after"]]

    def test_commas_inside_a_tab_separated_text(self) -> None:
        rows: list[Row] = [(n, "Aldwick, Brae, Corran, Dunmore, and, so, on", n * 2) for n in range(30)]
        self.assertEqual(self.columns(text(rows, "id,stops,fare", "\t")), ["id", "stops", "fare"])

    def test_comment_lines_are_no_rows(self) -> None:
        data = b"# taken on the quay, by hand\n# two, lines\n" + text(
            [(n, "Aldwick", n) for n in range(9)], "id,stop,fare"
        ).replace(b"\n4,", b"\n# here the rain began\n4,")
        self.assertEqual(self.columns(data), ["id", "stop", "fare"])
        found = compared(data, data.replace(b"8,Aldwick", b"8,Corran"), "t.csv")
        self.assertEqual((found["table"]["rows"]["before"], found["table"]["rows"]["changed"]), (9, 1))

    def test_a_header_behind_a_hash_stays_the_header(self) -> None:
        data = b"##form=4\n#id\tstop\tfare\n" + b"".join(b"%d\tAldwick\t%d\n" % (n, n) for n in range(9))
        self.assertEqual(self.columns(data), ["#id", "stop", "fare"])


class KeyTests(unittest.TestCase):
    """Among columns that tell rows apart, the one whose values stay is the key."""

    def test_a_code_that_stays_beats_a_name_that_does_not(self) -> None:
        old: list[Row] = [(f"Berth {n} at the old quay", f"B{n:03}", n) for n in range(60)]
        new = [(f"Mooring {n}" if n % 2 else name, code, n) for n, (name, code, _) in enumerate(old)]
        found = compared(text(old, "name,code,depth"), text(new, "name,code,depth"), "t.csv")
        self.assertEqual(found["table"]["key"], ["code"])
        self.assertEqual(found["table"]["rows"]["changed"], 30)
