"""Tables by pages: whatever is sorted and asked for, against the same done by hand over the rows of the file."""

from __future__ import annotations

import random
import tempfile
import unittest
from pathlib import Path
from unittest.mock import patch

import pyarrow as pa
import pyarrow.parquet as pq

from everyshelf.core.errors import InvalidError
from everyshelf.core.tables import columns, orders, paging
from everyshelf.core.tables.engine import Engine
from everyshelf.core.tables.given import Given
from everyshelf.core.tables.sources import open_table

HARBOURS = ("Aldwick", "Brae", "Cull", "Île du Phare", "", "a, b")


def ledger(seed: int, rows: int) -> list[list[str]]:
    draw = random.Random(seed)
    return [
        [
            str(number),
            draw.choice(HARBOURS),
            f"{draw.uniform(-40, 400):.2f}" if draw.random() > 0.1 else "",
            f"2026-{draw.randrange(1, 13):02}-{draw.randrange(1, 28):02}",
        ]
        for number in draw.sample(range(10 * rows), rows)
    ]


def as_csv(rows: list[list[str]]) -> bytes:
    quoted = [",".join(f'"{cell}"' if "," in cell else cell for cell in row) for row in rows]
    return ("\n".join(["id,harbour,fare,day", *quoted]) + "\n").encode()


class PageTests(unittest.TestCase):
    """One table of three thousand rows, kept once."""

    rows: list[list[str]]

    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = tempfile.TemporaryDirectory(prefix="es-pages-")
        cls.addClassCleanup(cls.folder.cleanup)
        cls.engine = Engine()
        cls.addClassCleanup(cls.engine.close)
        cls.rows = ledger(5, 3_000)
        cls.kept = Path(cls.folder.name, "table.parquet")
        file = Path(cls.folder.name, "ledger.csv")
        file.write_bytes(as_csv(cls.rows))
        source = open_table(cls.engine, Given(file.name, path=file), "csv")
        cls.count = paging.keep_table(cls.engine, source, cls.kept)

    def page(self, start: int = 0, count: int = 100, *, sort: list[str] | None = None, where: list[str] | None = None):
        return paging.rows_of(self.engine, self.kept, start, count, sort=sort or [], where=where or [])

    def kept_beside(self) -> list[Path]:
        return sorted(self.kept.parent.glob(f"{self.kept.name}.*"), key=lambda file: file.suffix)

    def all_numbers(self, **wanted: list[str]) -> list[int]:
        numbers: list[int] = []
        while True:
            found = self.page(len(numbers), 700, **wanted)
            numbers += found.numbers
            if not found.numbers:
                self.assertEqual(len(numbers), found.total)
                return numbers

    def numbers_of(self, keep, order=None, *, reverse: bool = False) -> list[int]:
        kept = [(n, row) for n, row in enumerate(self.rows, 1) if keep(row)]
        if order is not None:
            empty = [one for one in kept if order(one[1]) is None]
            full = [one for one in kept if order(one[1]) is not None]
            full.sort(key=lambda one: order(one[1]), reverse=reverse)
            if reverse:  # rows with the same cell stay in the order of the file
                full = [one for _, group in _grouped(full, order) for one in sorted(group)]
            kept = full + empty
        return [n for n, _ in kept]

    def test_pages_are_the_file_from_end_to_end(self) -> None:
        self.assertEqual(self.count, 3_000)
        seen: list[list[str | None]] = []
        for start in range(0, 3_000, 250):
            found = self.page(start, 250)
            self.assertEqual((found.total, found.row_count, found.start), (3_000, 3_000, start))
            self.assertEqual(found.numbers, list(range(start + 1, start + 251)))
            seen += found.rows
        self.assertEqual([[cell or "" for cell in row] for row in seen], self.rows)
        self.assertEqual(self.page(3_000).rows, [])
        self.assertEqual(self.page(2_999).numbers, [3_000])
        self.assertEqual([column.name for column in found.columns], ["id", "harbour", "fare", "day"])

    def test_sorted_as_numbers_days_and_texts_are(self) -> None:
        everything = lambda row: True  # noqa: E731
        fare = lambda row: float(row[2]) if row[2] else None  # noqa: E731
        self.assertEqual(self.all_numbers(sort=["fare"]), self.numbers_of(everything, fare))
        self.assertEqual(self.all_numbers(sort=["-fare"]), self.numbers_of(everything, fare, reverse=True))
        self.assertEqual(self.all_numbers(sort=["id"]), self.numbers_of(everything, lambda row: int(row[0])))
        self.assertEqual(self.all_numbers(sort=["day"]), self.numbers_of(everything, lambda row: row[3]))
        both = self.numbers_of(everything, lambda row: (row[3], int(row[0])))
        self.assertEqual(self.all_numbers(sort=["day", "id"]), both)

    def test_the_beginning_of_an_order_comes_without_all_of_it(self) -> None:
        everything = lambda row: True  # noqa: E731
        fare = lambda row: float(row[2]) if row[2] else None  # noqa: E731
        by_hand = {
            "fare": self.numbers_of(everything, fare),
            "-fare": self.numbers_of(everything, fare, reverse=True),
            "id": self.numbers_of(everything, lambda row: int(row[0])),
            "harbour": self.numbers_of(everything, lambda row: row[1]),
        }
        with patch.multiple(orders, LARGE=1_000, _FIRST=20, _BEGINNING=0.1, _SAMPLE_ROWS=500, _SAMPLE_LETTERS=2):
            for name, expected in by_hand.items():
                with self.subTest(order=name):
                    for file in self.kept_beside():
                        file.unlink()
                    found = self.page(190, 50, sort=[name])
                    self.assertEqual(found.numbers, expected[190:240])
                    self.assertEqual((found.total, len(found.rows)), (3_000, 50))
                    beginning, sample = self.kept_beside()
                    self.assertEqual((beginning.suffix, sample.suffix), (".first", ".sample"))
                    self.assertLess(pq.read_metadata(beginning).num_rows, 2_000, "all of it was put in order")
                    made = beginning.stat().st_mtime_ns
                    self.assertEqual(self.page(40, 50, sort=[name]).numbers, expected[40:90])
                    self.assertEqual(self.kept_beside(), [beginning, sample])
                    self.assertGreaterEqual(beginning.stat().st_mtime_ns, made)
                    self.assertEqual(self.page(2_900, 100, sort=[name]).numbers, expected[2_900:])
                    self.assertEqual(self.page(190, 50, sort=[name]).numbers, expected[190:240])

    def test_where_the_rows_looked_at_do_not_tell_it_all_are_put_in_order(self) -> None:
        with patch.multiple(orders, LARGE=1_000, _FIRST=20, _BEGINNING=0.1, _SPARE=0):
            expected = self.numbers_of(lambda row: True, lambda row: row[3])
            self.assertEqual(self.page(150, 100, sort=["day"]).numbers, expected[150:250])

    def test_a_large_table_has_its_sample_before_anyone_asks(self) -> None:
        with tempfile.TemporaryDirectory(prefix="es-pages-") as folder:
            file, kept = Path(folder, "ledger.csv"), Path(folder, "kept.parquet")
            file.write_bytes(as_csv(self.rows))
            source = open_table(self.engine, Given(file.name, path=file), "csv")
            with patch.multiple(paging, LARGE=3_000), patch.multiple(orders, _SAMPLE_ROWS=500):
                paging.keep_table(self.engine, source, kept)
            sample = pq.read_table(f"{kept}.sample")
            self.assertGreater(sample.num_rows, 300)
            self.assertLess(sample.num_rows, 700)
            fares = {float(row[2]) if row[2] else None for row in self.rows}
            self.assertLessEqual(set(sample.column("s2").to_pylist()), fares)

    def test_a_table_kept_without_values_beside_it_is_sorted_and_filtered_the_same(self) -> None:
        """As those that were kept before there were any."""
        with tempfile.TemporaryDirectory(prefix="es-pages-") as folder, patch.object(paging, "NUMBERS", frozenset()):
            file, kept = Path(folder, "ledger.csv"), Path(folder, "kept.parquet")
            file.write_bytes(as_csv(self.rows))
            paging.keep_table(self.engine, open_table(self.engine, Given(file.name, path=file), "csv"), kept)
            self.assertNotIn("v2", pq.read_schema(kept).names)
            self.assertIn("v2", pq.read_schema(self.kept).names)
            with patch.object(paging, "NUMBERS", columns.NUMBERS):
                for wanted in (
                    {"sort": ["-fare"]},
                    {"where": ["fare over 12.5"], "sort": ["id"]},
                    {"where": ["fare is 7"]},
                ):
                    older = paging.rows_of(self.engine, kept, 700, 300, **wanted)
                    self.assertEqual(older, self.page(700, 300, **wanted), wanted)

    def test_conditions_all_hold(self) -> None:
        fare = lambda row: float(row[2]) if row[2] else None  # noqa: E731
        for where, keep in (
            (["harbour is Brae"], lambda row: row[1] == "Brae"),
            (["harbour is not Brae"], lambda row: row[1] != "Brae"),
            (["harbour contains PHARE"], lambda row: "phare" in row[1].lower()),
            (["harbour is a, b"], lambda row: row[1] == "a, b"),
            (["harbour is empty"], lambda row: row[1] == ""),
            (["fare is not empty"], lambda row: row[2] != ""),
            (["fare over 100"], lambda row: row[2] != "" and float(row[2]) > 100),
            (["fare under -1.5"], lambda row: row[2] != "" and float(row[2]) < -1.5),
            (["day under 2026-03-01"], lambda row: row[3] < "2026-03-01"),
            (
                ["fare over 100", "harbour is Cull"],
                lambda row: fare(row) is not None and fare(row) > 100 and row[1] == "Cull",
            ),
            (["id is 7"], lambda row: row[0] == "7"),
        ):
            with self.subTest(where=where):
                self.assertEqual(self.all_numbers(where=where), self.numbers_of(keep))
        sorted_too = self.all_numbers(where=["fare over 100"], sort=["-fare"])
        self.assertEqual(sorted_too, self.numbers_of(lambda row: (fare(row) or 0) > 100, fare, reverse=True))

    def test_what_does_not_fit_the_table_is_said(self) -> None:
        for code, wanted in (
            ("rows.column", {"sort": ["price"]}),
            ("rows.column", {"where": ["price over 3"]}),
            ("rows.condition", {"where": ["fare roughly 3"]}),
            ("rows.condition", {"where": ["fare over ten"]}),
            ("rows.condition", {"where": ["fare over nan"]}),
            ("rows.condition", {"where": ["fare"]}),
        ):
            with self.subTest(wanted=wanted), self.assertRaises(InvalidError) as caught:
                self.page(**wanted)
            self.assertEqual(caught.exception.code, code)

    def test_only_the_newest_orders_are_kept(self) -> None:
        for number in range(25):
            self.assertEqual(
                self.page(where=[f"id under {number + 1}"]).numbers,
                self.numbers_of(lambda row, n=number: int(row[0]) <= n),
            )
        held = [file.name for file in self.kept_beside() if file.suffix != ".sample"]
        self.assertEqual(len(held), 20, held)
        self.assertEqual(self.page(where=["id under 1"]).total, sum(int(row[0]) < 1 for row in self.rows))

    def test_a_value_is_never_read_as_anything_else(self) -> None:
        for value in ("Brae' OR 1=1 --", "'", "%", '"; DROP TABLE x', "\\"):
            self.assertEqual(self.page(where=[f"harbour is {value}"]).total, 0, value)
            self.assertEqual(self.page(where=[f"harbour contains {value}"]).total, 0, value)


class ColumnTests(unittest.TestCase):
    """Columns of every sort a columnar file holds, and of names that look like conditions."""

    def test_cells_come_back_as_they_were_shown(self) -> None:
        table = pa.table(
            {
                "fare is": pa.array(["1", "2", None]),
                "fare": pa.array([1.5, 20.0, None]),
                "huge": pa.array([2**63 - 1, -(2**63), 0]),
                "when": pa.array([0, 1_700_000_000_000_000, None], pa.timestamp("us", "UTC")),
                "list": pa.array([[1, 2], [], None]),
                "record": pa.array([{"a": 1}, {"a": 2}, None]),
                "raw": pa.array([b"\x00\xff", b"", None]),
                "yes": pa.array([True, False, None]),
            }
        )
        with tempfile.TemporaryDirectory(prefix="es-pages-") as folder, Engine() as engine:
            file, kept = Path(folder, "given.parquet"), Path(folder, "kept.parquet")
            pq.write_table(table, file)
            source = open_table(engine, Given(file.name, path=file), "parquet")
            self.assertEqual(paging.keep_table(engine, source, kept), 3)
            found = paging.rows_of(engine, kept, 0, 10)
            self.assertEqual(
                found.rows[0],
                ["1", "1.5", str(2**63 - 1), "1970-01-01 00:00:00+00", "[1,2]", '{"a":1}', "00FF", "true"],
            )
            self.assertEqual(found.rows[2], [None, None, "0", None, None, None, None, None])
            self.assertEqual(paging.rows_of(engine, kept, 0, 10, sort=["-huge"]).numbers, [1, 3, 2])
            self.assertEqual(paging.rows_of(engine, kept, 0, 10, where=["fare is is 2"]).numbers, [2])
            self.assertEqual(paging.rows_of(engine, kept, 0, 10, where=["fare is 20"]).numbers, [2])
            self.assertEqual(paging.rows_of(engine, kept, 0, 10, sort=["-when"]).numbers, [2, 1, 3])


def _grouped(rows, order):
    groups: dict = {}
    for row in rows:
        groups.setdefault(order(row[1]), []).append(row)
    return groups.items()
