"""Tables against an independent SQL computation: hypothesis makes them, SQLite counts what changed."""

from __future__ import annotations

import csv
import io
import sqlite3
import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from tests.support.factories import compared
from tests.support.laws import law

CELLS = st.sampled_from(["", "A", "B", "1", "2.5", "x y", "Brae; north", 'the "Fulmar"', "7\n8"])
KEYED = st.dictionaries(st.integers(1, 40), st.tuples(CELLS, CELLS), max_size=25)
ROWS = st.lists(st.tuples(st.sampled_from(["A", "B"]), st.sampled_from(["1", "2", ""])), min_size=1, max_size=25)


def written(header: list[str], rows: list[tuple[Any, ...]], delimiter: str = ",") -> bytes:
    out = io.StringIO()
    csv.writer(out, delimiter=delimiter, lineterminator="\n").writerows([header, *rows])
    return out.getvalue().encode()


def counted(before: list[tuple[Any, ...]], after: list[tuple[Any, ...]], sql: dict[str, str]) -> dict[str, int]:
    """The counts as SQL sees them."""
    with sqlite3.connect(":memory:") as records:
        for name, rows in (("old", before), ("new", after)):
            records.execute(f"CREATE TABLE {name} (id, a, b)")
            records.executemany(f"INSERT INTO {name} VALUES (?, ?, ?)", rows)
        return {what: records.execute(query).fetchone()[0] for what, query in sql.items()}


class KeyedTests(unittest.TestCase):
    """Rows with a declared key."""

    @law(200)
    @given(KEYED, KEYED, st.randoms(use_true_random=False), st.sampled_from([",", ";", "\t"]))
    def test_counts_are_those_of_sql(
        self, before: dict[int, Any], after: dict[int, Any], rng: Any, delimiter: str
    ) -> None:
        # one row on both sides, so that there is a table at all and both share a shape
        old = [(0, "A", "1"), *((k, *v) for k, v in before.items())]
        new = [(0, "A", "1"), *((k, *v) for k, v in after.items())]
        shuffled = list(new)
        rng.shuffle(shuffled)
        found = compared(
            written(["id", "a", "b"], old), written(["id", "a", "b"], shuffled, delimiter), "t.csv", key=["id"]
        )
        if found["equal"] and not found.get("table"):
            self.assertEqual(old, shuffled)
            return
        expected = counted(
            old,
            new,
            {
                "added": "SELECT count(*) FROM new WHERE id NOT IN (SELECT id FROM old)",
                "removed": "SELECT count(*) FROM old WHERE id NOT IN (SELECT id FROM new)",
                "changed": "SELECT count(*) FROM old JOIN new USING (id) WHERE old.a <> new.a OR old.b <> new.b",
                "a": "SELECT count(*) FROM old JOIN new USING (id) WHERE old.a <> new.a",
                "b": "SELECT count(*) FROM old JOIN new USING (id) WHERE old.b <> new.b",
            },
        )
        rows = found["table"]["rows"]
        self.assertEqual(
            {k: rows[k] for k in ("added", "removed", "changed")},
            {k: expected[k] for k in ("added", "removed", "changed")},
        )
        for column in ("a", "b"):
            self.assertEqual(found["table"]["cells"].get(column, {"changed": 0})["changed"], expected[column])

    @law(60)
    @given(KEYED.filter(lambda rows: len(rows) > 1), st.randoms(use_true_random=False))
    def test_re_sorted_table_has_no_difference(self, table: dict[int, Any], rng: Any) -> None:
        rows = [(k, *v) for k, v in table.items()]
        turned = list(rows)
        rng.shuffle(turned)
        found = compared(written(["id", "a", "b"], rows), written(["id", "a", "b"], turned, ";"), "t.csv", key=["id"])
        self.assertEqual([f for f in found["findings"] if f["effect"] != "cosmetic"], [])


def check_unkeyed(test: unittest.TestCase, table: dict[str, Any], added: int, removed: int) -> None:
    """``added``, ``removed``: by how much each different row comes more often on a side. Pairs of those are rows changed,
    or rows whose cells are merely written differently."""
    rows = table["rows"]
    pairs = added - rows["added"]
    test.assertEqual(pairs, removed - rows["removed"])
    test.assertLessEqual(rows["changed"], pairs)
    if not any(counts["representation_only"] for counts in table["cells"].values()):
        test.assertEqual(rows["changed"], pairs)
    test.assertEqual(table["key"], [])


class MultisetTests(unittest.TestCase):
    """Rows without any key, repeated ones included."""

    @law(150)
    @given(ROWS, ROWS)
    def test_counts_are_those_of_sql(self, before: list[Any], after: list[Any]) -> None:
        # every row twice: no column, and no set of columns, is unique
        old, new = [(0, *r) for r in before * 2], [(0, *r) for r in after * 2]
        found = compared(written(["n", "a", "b"], old), written(["n", "a", "b"], new), "t.csv")
        if not found.get("table"):
            self.assertEqual(old, new)
            return
        many = "SELECT coalesce(sum(max(c - coalesce((SELECT count(*) FROM {1} o WHERE o.a = t.a AND o.b = t.b), 0), 0)), 0) FROM (SELECT a, b, count(*) c FROM {0} GROUP BY a, b) t"
        expected = counted(old, new, {"added": many.format("new", "old"), "removed": many.format("old", "new")})
        check_unkeyed(self, found["table"], expected["added"], expected["removed"])


class ColumnTests(unittest.TestCase):
    """Columns that come, go, move and change their type."""

    def test_each_column_is_one_finding(self) -> None:
        before = written(["id", "zone", "fare", "note"], [(n, f"Z{n}", n, "x") for n in range(1, 12)])
        after = written(["id", "fare", "zone", "berth"], [(n, f"{n}.5", f"Z{n}", n * 3) for n in range(1, 12)])
        found = compared(before, after, "t.csv")
        self.assertEqual(
            sorted((f["action"], f["label"], f["effect"]) for f in found["findings"]),
            [
                ("added", "berth", "alters"),
                ("changed", "fare", "alters"),
                ("changed", "fare", "alters"),
                ("removed", "note", "breaks"),
                ("reordered", "columns", "cosmetic"),
            ],
        )
        self.assertEqual(found["table"]["columns"]["widened"], ["fare"])

    def test_a_word_among_numbers_breaks_who_reads_numbers(self) -> None:
        fares = [(1, "2.50"), (2, "3.00"), (3, "4.57")]
        found = compared(
            written(["id", "fare"], fares), written(["id", "fare"], [*fares[:2], (3, "4.57a11.11")]), "t.csv"
        )
        self.assertEqual(
            [(f["label"], f["field"]) for f in found["findings"] if f["effect"] == "breaks"], [("fare", "type")]
        )
        self.assertEqual(found["table"]["columns"]["retyped"], ["fare"])

    def test_unlike_types_break(self) -> None:
        found = compared(
            written(["id", "on"], [(n, n) for n in range(5)]),
            written(["id", "on"], [(n, f"2026-03-0{n + 1}") for n in range(5)]),
            "t.csv",
        )
        self.assertEqual([f["field"] for f in found["findings"] if f["effect"] == "breaks"], ["type"])

    def test_twelve_renamed_columns_are_twelve_findings(self) -> None:
        names = [f"c{n}" for n in range(12)]
        rows = [tuple(k * 100 + n for n in range(12)) for k in range(30)]
        found = compared(
            written(["id", *names], [(k, *r) for k, r in enumerate(rows)]),
            written(["id", *(f"column_{n}" for n in names)], [(k, *r) for k, r in enumerate(rows)]),
            "t.csv",
        )
        self.assertEqual({f["action"] for f in found["findings"]}, {"renamed"})
        self.assertEqual(len(found["findings"]), 12)

    def test_unrelated_tables_say_so(self) -> None:
        found = compared(b"a,b\n1,2\n3,4\n", b"x,y\np,q\nr,s\n", "t.csv")
        self.assertIn("unrelated", found["note"])
