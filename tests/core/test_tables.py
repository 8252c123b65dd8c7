"""Tables of every format against an independent SQL computation, and what means nothing about them."""

from __future__ import annotations

import bz2
import csv
import gzip
import io
import json
import lzma
import math
import sqlite3
import tempfile
import unittest
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.feather
import pyarrow.ipc
import pyarrow.parquet as pq
import zstandard
from hypothesis import given
from hypothesis import strategies as st

from everyshelf.core.tables.comparing import compare_tables
from everyshelf.core.tables.delimited import SMALL_BYTES
from everyshelf.core.tables.engine import Engine
from everyshelf.core.tables.given import Given
from everyshelf.core.tables.sources import open_table
from tests.core.test_tables_law import check_unkeyed
from tests.support.factories import compared
from tests.support.laws import law

# None, the empty text and the text of a null are three different things.
TEXTS = st.sampled_from([None, "", "null", "Brae", "brae", "a,b", 'say "ahoy"', "1.50", "007"])
NUMBERS = st.none() | st.integers(-5, 5)
DECIMALS = st.none() | st.sampled_from([0.0, 1.5, -2.25, 3.1, 1e9, 7.0])
ROWS = st.lists(st.tuples(TEXTS, NUMBERS, DECIMALS), min_size=1, max_size=20)
COLUMNS = ("a", "b", "c")
SCHEMA = pa.schema([("k", pa.int64()), ("a", pa.string()), ("b", pa.int64()), ("c", pa.float64())])


def parquet(rows: list[tuple[Any, ...]], schema: pa.Schema = SCHEMA, **options: Any) -> bytes:
    out = io.BytesIO()
    pq.write_table(arrow(rows, schema), out, **options)
    return out.getvalue()


def arrow(rows: list[tuple[Any, ...]], schema: pa.Schema = SCHEMA) -> pa.Table:
    return pa.Table.from_arrays(
        [pa.array([row[n] for row in rows], field.type) for n, field in enumerate(schema)], schema=schema
    )


def text(rows: list[tuple[Any, ...]], header: tuple[str, ...] = ("k", *COLUMNS), **options: Any) -> bytes:
    out = io.StringIO()
    csv.writer(out, lineterminator="\n", **options).writerows([header, *rows])
    return out.getvalue().encode()


def by_sql(old: list[tuple[Any, ...]], new: list[tuple[Any, ...]], key: str) -> dict[str, int]:
    """Rows and cells that differ as SQLite sees them, rows matched by the columns of ``key``."""
    on = " AND ".join(f"o.{k} IS n.{k}" for k in key)
    rest = [c for c in "kabc" if c not in key]
    asked = {
        "added": f"SELECT count(*) FROM new n WHERE NOT EXISTS (SELECT 1 FROM old o WHERE {on})",
        "removed": f"SELECT count(*) FROM old o WHERE NOT EXISTS (SELECT 1 FROM new n WHERE {on})",
        "changed": f"SELECT count(*) FROM old o JOIN new n ON {on} WHERE {' OR '.join(f'o.{c} IS NOT n.{c}' for c in rest)}",
        **{c: f"SELECT count(*) FROM old o JOIN new n ON {on} WHERE o.{c} IS NOT n.{c}" for c in rest},
    }
    with sqlite3.connect(":memory:") as records:
        for name, rows in (("old", old), ("new", new)):
            records.execute(f"CREATE TABLE {name} (k, a, b, c)")
            records.executemany(f"INSERT INTO {name} VALUES (?, ?, ?, ?)", rows)
        return {what: records.execute(query).fetchone()[0] for what, query in asked.items()}


def meaningful(found: dict[str, Any]) -> list[dict[str, Any]]:
    return [f for f in found["findings"] if f["effect"] != "cosmetic"]


class CountTests(unittest.TestCase):
    """Exact counts."""

    def check(self, found: dict[str, Any], expected: dict[str, int]) -> None:
        table = found.get("table")
        if table is None:
            self.assertFalse(any(expected.values()))
            return
        self.assertEqual(
            {k: table["rows"][k] for k in ("added", "removed", "changed")},
            {k: expected[k] for k in ("added", "removed", "changed")},
        )
        for column in COLUMNS:
            if column in expected:
                self.assertEqual(table["cells"].get(column, {"changed": 0})["changed"], expected[column], column)

    @law(80)
    @given(ROWS, ROWS, st.randoms(use_true_random=False))
    def test_keyed_rows_of_parquet(self, before: Any, after: Any, rng: Any) -> None:
        old = [(n, *row) for n, row in enumerate(before)]
        keys = rng.sample(range(len(after) + 6), len(after))
        new = [(k, *row) for k, row in zip(keys, after, strict=True)]
        found = compared(parquet(old), parquet(new), "t.parquet", key=["k"])
        self.check(found, by_sql(old, new, "k"))

    @law(60)
    @given(
        st.dictionaries(
            st.tuples(st.integers(0, 4), st.sampled_from("xyz")), st.tuples(NUMBERS, DECIMALS), min_size=1, max_size=12
        ),
        st.dictionaries(
            st.tuples(st.integers(0, 4), st.sampled_from("xyz")), st.tuples(NUMBERS, DECIMALS), min_size=1, max_size=12
        ),
    )
    def test_composite_keys(self, before: Any, after: Any) -> None:
        old, new = ([(*k, *v) for k, v in side.items()] for side in (before, after))
        found = compared(parquet(old), parquet(new), "t.parquet", key=["k", "a"])
        self.check(found, by_sql(old, new, "ka"))

    @law(60)
    @given(ROWS, ROWS)
    def test_rows_without_a_key_are_multisets(self, before: Any, after: Any) -> None:
        # Every row twice and a constant: nothing is unique.
        old, new = ([(1, *row) for row in side * 2] for side in (before, after))
        found = compared(parquet(old), parquet(new), "t.parquet")
        counts = {row: (old.count(row), new.count(row)) for row in {*old, *new}}
        added, removed = sum(max(n - o, 0) for o, n in counts.values()), sum(max(o - n, 0) for o, n in counts.values())
        if "table" not in found:
            self.assertEqual((added, removed), (0, 0))
            return
        check_unkeyed(self, found["table"], added, removed)

    @law(40)
    @given(ROWS, st.randoms(use_true_random=False))
    def test_details_hold_exactly_the_rows_that_differ(self, rows: Any, rng: Any) -> None:
        old = [(n, *row) for n, row in enumerate(rows)]
        new = [(k, "changed", *rest) if rng.random() < 0.4 else (k, a, *rest) for k, a, *rest in old]
        new = [row for row in new if rng.random() < 0.8] + [(100, "new", 1, 1.5)]
        found = compared(parquet(old), parquet(new), "t.parquet", key=["k"])["table"]
        told = {(r["action"], int((r["after"] or r["before"])[0])) for r in found["details"]}
        before, after = {r[0]: r for r in old}, {r[0]: r for r in new}
        expected = {("added", k) for k in after.keys() - before.keys()} | {
            ("removed", k) for k in before.keys() - after.keys()
        }
        expected |= {("changed", k) for k in before.keys() & after.keys() if before[k] != after[k]}
        self.assertEqual(told, expected)


class NothingTests(unittest.TestCase):
    """What means nothing: order, files, compression, encoding, dialect, another format."""

    ROWS = [(n, f"Harbour {n % 7}", n * 3 % 11, n * 0.25) for n in range(60)]

    def written(self) -> dict[str, bytes]:
        table = arrow(self.ROWS)
        one, two = io.BytesIO(), io.BytesIO()
        pyarrow.feather.write_feather(table, one)
        with pa.ipc.new_file(two, table.schema) as writer:
            writer.write_table(table)
        records = [dict(zip(("k", *COLUMNS), row, strict=True)) for row in self.ROWS]
        plain = text(self.ROWS)
        return {
            "t.csv": plain,
            "t.tsv": text(self.ROWS, delimiter="\t"),
            "quoted.csv": text(self.ROWS, quoting=csv.QUOTE_ALL).replace(b"\n", b"\r\n"),
            "utf16.csv": plain.decode().encode("utf-16"),
            "t.csv.gz": gzip.compress(plain),
            "t.csv.bz2": bz2.compress(plain),
            "t.csv.xz": lzma.compress(plain),
            "t.csv.zst": zstandard.compress(plain),
            "t.jsonl": b"".join(json.dumps(r).encode() + b"\n" for r in records),
            "t.json": json.dumps(records, indent=2).encode(),
            "snappy.parquet": parquet(self.ROWS),
            "zstd.parquet": parquet(self.ROWS, compression="zstd", row_group_size=7),
            "t.feather": one.getvalue(),
            "t.arrow": two.getvalue(),
        }

    def test_every_format_holds_the_same_table(self) -> None:
        first = parquet(list(reversed(self.ROWS)))
        for name, data in self.written().items():
            with self.subTest(name=name):
                found = compared(first, data, name, old_name="t.parquet")
                self.assertEqual(found["kind"], "dataset")
                self.assertEqual(meaningful(found), [])
                self.assertEqual(found["table"]["rows"]["before"], 60)

    def test_one_edit_is_told_across_formats(self) -> None:
        edited = [(k, a, b + 1 if k == 17 else b, c) for k, a, b, c in self.ROWS]
        for name, data in self.written().items():
            with self.subTest(name=name):
                found = compared(data, parquet(edited), "t.parquet", old_name=name)
                self.assertEqual(
                    [(f["action"], f["label"]) for f in meaningful(found) if f.get("field") != "type"],
                    [("changed", "b")],
                )
                self.assertEqual(found["table"]["cells"]["b"]["changed"], 1)

    def test_a_table_cut_into_files_is_the_same_table(self) -> None:
        with tempfile.TemporaryDirectory() as name, Engine() as engine:
            folder = Path(name)
            parts = []
            for n in range(5):
                path = folder / f"part-{n}.parquet"
                path.write_bytes(parquet(self.ROWS[n::5]))
                parts.append(Given(path.name, path=path))
            one = open_table(engine, Given("t.parquet", parquet(self.ROWS)), "parquet")
            many = open_table(engine, Given("t", files=tuple(parts)), "parquet")
            found = compare_tables(engine, one, many)
            self.assertEqual((found.rows.added, found.rows.removed, found.rows.changed, found.rows.same), (0, 0, 0, 60))
            self.assertEqual(many.layout["files"], "5")

    def test_large_table_sorted_anew_is_the_same_table(self) -> None:
        rows = [(n, f"Harbour {n % 977}", n * 7 % 1013, n / 8) for n in range(60_000)]
        anew = sorted(rows, key=lambda row: (row[2], -row[0]))
        found = compared(parquet(rows), parquet(anew, compression="zstd"), "t.parquet", key=["k"])
        self.assertEqual(meaningful(found), [])
        anew[777] = (*anew[777][:2], -1, anew[777][3])
        found = compared(parquet(rows), parquet(anew), "t.parquet", key=["k"])
        self.assertEqual(found["table"]["cells"], {"b": {"changed": 1, "representation_only": 0}})

    def test_large_text_is_read_as_the_small_one_is(self) -> None:
        rows = [
            (n, 'a "quoted", cell\nof two lines' if n % 50 == 0 else f"place {n}", n, n / 4) for n in range(150_000)
        ]
        data = text(rows)
        self.assertGreater(len(data), SMALL_BYTES // 2)
        data += text([(n, "x" * 40, n, "") for n in range(150_000, 200_000)]).partition(b"\n")[2]
        self.assertGreater(len(data), SMALL_BYTES)
        expected = [tuple(r) for r in csv.reader(io.StringIO(data.decode(), newline=""))][1:]
        with Engine() as engine:
            source = open_table(engine, Given("t.csv", data), "csv")
            found = engine.rows(f"SELECT c0, c1, c2, c3 FROM {source.relation} ORDER BY r")
        self.assertEqual(found, expected)

    def test_large_ragged_text_keeps_every_cell(self) -> None:
        lines = [f"{n},{'place' * 12},{n % 3}" + (",more,cells" if n == 70_000 else "") for n in range(80_000)]
        data = ("id,name,zone\n" + "\n".join(lines)).encode()
        self.assertGreater(len(data), SMALL_BYTES)
        with Engine() as engine:
            source = open_table(engine, Given("t.csv", data), "csv")
            self.assertEqual((source.row_count, len(source.columns)), (80_000, 5))
            self.assertEqual(engine.row(f"SELECT c3, c4 FROM {source.relation} WHERE c0 = '70000'"), ("more", "cells"))


class SpellingTests(unittest.TestCase):
    """Values written otherwise are the same values, and are counted apart."""

    def cells(self, old: list[str], new: list[str], **options: Any) -> dict[str, int]:
        sides = [text([(n, v) for n, v in enumerate(side)], ("id", "v"), delimiter=";") for side in (old, new)]
        return compared(*sides, "t.csv", key=["id"], **options)["table"]["cells"].get(
            "v", {"changed": 0, "representation_only": 0}
        )

    def test_respellings(self) -> None:
        days = [f"2026-03-{n:02}" for n in range(1, 29)]
        for what, old, new in (
            ("noughts", ["1.50", "2.0", "3"], ["1.5", "2", "3.000"]),
            ("blanks", ["Brae", "a b", " x"], ["Brae ", " a b", "x"]),
            ("exponents", ["1200000", "0.5", "1.5"], ["1.2e6", "5e-1", "15e-1"]),
            ("decimal commas", ["1234.5", "2.25", "0.1"], ["1.234,5", "2,25", "0,1"]),
            ("thousands", ["1234567", "1000", "12"], ["1,234,567", "1,000", "12"]),
            ("noise", ["0.3", "1.1", "2.675"], ["0.30000000000000004", "1.1", "2.6750000000000003"]),
            ("days", days, [f"{d[8:]}.03.2026" for d in days]),
            ("American days", days, [f"3/{int(d[8:])}/2026" for d in days]),
        ):
            with self.subTest(what=what):
                found = self.cells(old, new)
                self.assertEqual(found["changed"], 0)
                self.assertGreater(found["representation_only"], 1)

    def test_other_values_stay_other_values(self) -> None:
        for what, old, new in (
            ("codes", ["007", "010", "1"], ["7", "10", "1"]),
            ("large whole numbers", ["12345678901234567890"], ["12345678901234567891"]),
            ("letters", ["Brae"], ["brae"]),
            ("empty and the text of nothing", [""], ["NA"]),
            ("times with another zone", ["2026-03-01 10:00:00+01:00"], ["2026-03-01 10:00:00+02:00"]),
        ):
            with self.subTest(what=what):
                self.assertGreater(self.cells(old, new)["changed"], 0)

    def test_rounding_hides_no_edit(self) -> None:
        old = [f"{math.sin(n) * 50:.6f}" for n in range(500)]
        new = [f"{float(v):.2f}" for v in old]
        for place in range(0, 500, 100):
            new[place] = f"{float(old[place]) + 3:.2f}"
        self.assertEqual(self.cells(old, new), {"changed": 5, "representation_only": 495})

    def test_key_written_otherwise_still_matches(self) -> None:
        old = text([(f"2026-01-{n:02}", n) for n in range(1, 29)], ("day", "boats"))
        new = text([(f"{n:02}.01.2026", n + (n == 9)) for n in range(1, 29)], ("day", "boats"))
        found = compared(old, new, "t.csv")
        self.assertEqual((found["table"]["key"], found["table"]["rows"]["changed"]), (["day"], 1))

    def test_tolerance_of_a_column(self) -> None:
        rules = '[tables]\n"*.csv" = {tolerance = {v = 0.05}}\n'
        self.assertEqual(
            self.cells(["1.00", "2.00", "3.00"], ["1.04", "2.05", "3.06"], rules=rules),
            {"changed": 1, "representation_only": 2},
        )

    def test_ignored_column_is_left_out(self) -> None:
        rules = '[tables]\n"*.csv" = {ignore = ["stamp*"]}\n'
        sides = [text([(n, "x", s + str(n)) for n in range(9)], ("id", "v", "stamp_at")) for s in "ab"]
        self.assertEqual(compared(*sides, "t.csv", rules=rules)["findings"], [])


class ColumnTests(unittest.TestCase):
    """Schema: what the file declares, and what its values are."""

    def changed(self, old: pa.DataType, new: pa.DataType, value: Any = 1) -> dict[str, Any]:
        sides = [pa.schema([("k", pa.int64()), ("v", t)]) for t in (old, new)]
        rows = [(n, value) for n in range(4)]
        return compared(parquet(rows, sides[0]), parquet(rows, sides[1]), "t.parquet")

    def test_declared_types(self) -> None:
        for old, new, what, effect in (
            (pa.int32(), pa.int64(), "widened", "alters"),
            (pa.int64(), pa.int32(), "narrowed", "breaks"),
            (pa.int32(), pa.float64(), "widened", "alters"),
            (pa.float64(), pa.float32(), "narrowed", "breaks"),
            (pa.int32(), pa.date32(), "retyped", "breaks"),
        ):
            with self.subTest(old=old, new=new):
                found = self.changed(old, new)
                self.assertEqual(found["table"]["columns"][what], ["v"])
                self.assertEqual(
                    [(f["field"], f["effect"]) for f in meaningful(found) if f.get("field")], [("type", effect)]
                )

    def test_numbers_that_became_texts_break(self) -> None:
        numbers, words = (pa.schema([("k", pa.int64()), ("v", t)]) for t in (pa.int64(), pa.string()))
        sides = (parquet([(n, n) for n in range(4)], numbers), parquet([(n, f"{n}") for n in range(4)], words))
        found = compared(*sides, "t.parquet")
        self.assertEqual(found["table"]["columns"]["retyped"], ["v"])
        self.assertEqual([f["field"] for f in meaningful(found) if f["effect"] == "breaks"], ["type"])

    def test_key_given_anew_is_seen_through(self) -> None:
        rows = [(n, f"Berth {n}", n % 9, n / 8) for n in range(80)]
        anew = [(k + 1000 if k % 2 else (k * 7) % 80, a, b + (k == 33), c) for k, a, b, c in rows]
        anew = [(place + 5, *row[1:]) for place, row in enumerate(sorted(anew, key=lambda r: r[1]))]
        found = compared(parquet(rows), parquet(anew), "t.parquet")
        self.assertEqual(found["table"]["key"], ["a"])
        self.assertIn("k was regenerated", found["note"])
        self.assertEqual(found["table"]["cells"]["b"]["changed"], 1)

    def test_unrelated_tables_are_said_to_be_unrelated(self) -> None:
        old = text([(n, f"boat {n}") for n in range(30)], ("x", "y"))
        new = text([(f"p{n}", n * 1.5) for n in range(40)], ("x", "y"))
        found = compared(old, new, "t.csv")
        self.assertIn("unrelated", found["note"])
        self.assertEqual(len(meaningful(found)), 1)

    def test_missing_fields_are_no_nulls(self) -> None:
        old = [{"id": n, "note": None} for n in range(5)]
        new = [{"id": n, "note": None} if n != 2 else {"id": n} for n in range(5)]
        found = compared(json.dumps(old).encode(), json.dumps(new).encode(), "t.json")
        self.assertEqual(found["table"]["cells"]["note"]["changed"], 1)

    def test_repeated_and_unlike_names(self) -> None:
        old = b"a,A,a,\n1,2,3,4\n5,6,7,8\n"
        found = compared(old, old.replace(b"7", b"9"), "t.csv")
        self.assertEqual({c: n["changed"] for c, n in found["table"]["cells"].items()}, {"a (2)": 1})


class ShiftTests(unittest.TestCase):
    """How far a column's values move."""

    def shift(self, old: list[Any], new: list[Any], rules: str = "") -> dict[str, Any]:
        sides = [text(list(enumerate(side)), ("id", "v")) for side in (old, new)]
        found = compared(*sides, "t.csv", rules=rules)
        profile = next(p for p in found["table"]["profiles"] if p["column"] == "v")
        return {**profile["shift"], "told": [f for f in found["findings"] if f.get("field") == "shift"]}

    @law(40)
    @given(st.lists(st.integers(0, 30), min_size=5, max_size=60), st.lists(st.integers(0, 30), min_size=5, max_size=60))
    def test_distance_is_the_largest_difference_of_shares(self, old: list[int], new: list[int]) -> None:
        if old == new:
            return
        found = self.shift(old, new)
        largest = max(abs(sum(v <= x for v in old) / len(old) - sum(v <= x for v in new) / len(new)) for x in range(31))
        self.assertAlmostEqual(found["value"], largest, places=5)
        self.assertEqual(found["measure"], "Kolmogorov-Smirnov distance")

    def test_texts_by_their_shares(self) -> None:
        found = self.shift(["tern"] * 60 + ["gull"] * 40, ["tern"] * 30 + ["gull"] * 70)
        self.assertAlmostEqual(found["value"], 0.3)
        self.assertEqual(len(found["told"]), 1)

    def test_limit_of_a_column(self) -> None:
        old, new = [n % 40 for n in range(800)], [n % 40 + 9 for n in range(800)]
        self.assertEqual(len(self.shift(old, new)["told"]), 1)
        self.assertEqual(self.shift(old, new, '[tables]\n"t.csv" = {shift = {v = 0.5}}\n')["told"], [])

    def test_small_tables_shift_by_chance(self) -> None:
        self.assertEqual(self.shift([1, 2, 3, 4], [1, 2, 3, 9])["told"], [])

    def test_of_long_tables_the_same_rows_are_looked_at_on_both_sides(self) -> None:
        """250,000 rows, in another order after: what did not change looks the same, what did is told."""
        rows = [(n, n * 7919 % 250_007, f"port {n % 45}", n % 10) for n in range(250_000)]
        after = [(n, still, port, ten + 3 if n % 2 else ten) for n, still, port, ten in reversed(rows[:-500])]
        found = compared(*(text(side, ("id", "still", "port", "ten")) for side in (rows, after)), "t.csv")
        profiles = {p["column"]: p for p in found["table"]["profiles"]}
        old, new = profiles["still"]["before"], profiles["still"]["after"]
        for side, told in ((rows, old), (after, new)):
            values = [row[1] for row in side]
            exactly = (min(values), max(values), sum(values) / len(values))
            for name, value in zip(("least", "greatest", "mean"), exactly, strict=True):
                self.assertAlmostEqual(told["numbers"][name], value, places=6)
            quartile = sorted(values)[len(values) // 4]
            self.assertLess(abs(told["numbers"]["lower_quartile"] - quartile) / 250_007, 0.01)
            self.assertLess(told["sampled"], 120_000)
            self.assertLess(abs(told["distinct"] / len(values) - 1), 0.1)
        # 500 rows are gone, of those that stayed the same ones are looked at.
        self.assertLess(profiles["still"]["shift"]["value"], 0.004)
        self.assertLess(profiles["port"]["shift"]["value"], 0.004)
        self.assertAlmostEqual(profiles["ten"]["shift"]["value"], 0.2, delta=0.02)
        self.assertEqual([f["part"] for f in found["findings"] if f.get("field") == "shift"], ["/column:ten"])


if __name__ == "__main__":
    unittest.main()
