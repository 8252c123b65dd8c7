"""What is known to be equal is not taken apart: the ways around a full comparison give the counts SQL gives."""

from __future__ import annotations

import contextlib
import hashlib
import json
import tempfile
import unittest
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from everyshelf.core.answers.tables import NO_FINGERPRINT, TableFingerprint
from everyshelf.core.compare.known import compare_known
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.reading.tasks import fingerprint_at
from everyshelf.core.tables import aligned, lines
from everyshelf.core.tables.comparing import compare_tables
from everyshelf.core.tables.engine import Engine
from everyshelf.core.tables.given import Given
from everyshelf.core.tables.hashes import places_of, surplus
from everyshelf.core.tables.lines import open_by_lines
from everyshelf.core.tables.options import TableOptions
from everyshelf.core.tables.row_groups import open_by_row_groups
from everyshelf.core.tables.sources import open_tables
from tests.core.test_tables import COLUMNS, DECIMALS, NUMBERS, SCHEMA, TEXTS, by_sql, parquet, text
from tests.support.factories import compared
from tests.support.laws import law

KEYS = st.integers(-40, 40) | st.sampled_from([10**12, -(10**15), 2**62, 2**40 + 1])
TABLE = st.dictionaries(KEYS, st.tuples(TEXTS, NUMBERS, DECIMALS), min_size=1, max_size=20)
CELLS = st.sampled_from(["", "A", "B", "1", "2.5", "x y", "Brae; north", 'the "Fulmar"', "a,b", " 7"])
LINES = st.dictionaries(st.integers(1, 40), st.tuples(CELLS, CELLS, CELLS), min_size=2, max_size=25)


@contextlib.contextmanager
def shortcuts_for_small_tables() -> Iterator[None]:
    """Tables of a few rows are compared as those of millions are."""
    with (
        mock.patch.object(aligned, "WORTH_ALIGNING", 0),
        mock.patch.object(lines, "SMALL_BYTES", 0),
        mock.patch.object(lines, "_MOST_DIFFERENT", 1.0),
    ):
        yield


def counts(found: dict[str, Any]) -> dict[str, int]:
    table = found["table"]
    cells = {c: table["cells"].get(c, {"changed": 0})["changed"] for c in COLUMNS}
    return {k: table["rows"][k] for k in ("added", "removed", "changed")} | cells


class AlignedTests(unittest.TestCase):
    """Rows under one whole number."""

    @law(80)
    @given(TABLE, TABLE, st.randoms(use_true_random=False))
    def test_counts_are_those_of_sql(self, before: dict[int, Any], after: dict[int, Any], rng: Any) -> None:
        old, new = ([(k, *cells) for k, cells in side.items()] for side in (before, after))
        rng.shuffle(new)
        with shortcuts_for_small_tables():
            found = compared(parquet(old), parquet(new), "t.parquet", key=["k"])
        if "table" not in found:
            self.assertEqual(old, new)
            return
        self.assertEqual(found["table"]["key"], ["k"] if not found["equal"] or found["table"]["key"] else [])
        self.assertEqual(counts(found), by_sql(old, new, "k"))

    @law(40)
    @given(TABLE, TABLE)
    def test_rows_are_those_a_join_finds(self, before: dict[int, Any], after: dict[int, Any]) -> None:
        old, new = ([(k, *cells) for k, cells in side.items()] for side in (before, after))
        joined = compared(parquet(old), parquet(new), "t.parquet", key=["k"])
        with shortcuts_for_small_tables():
            found = compared(parquet(old), parquet(new), "t.parquet", key=["k"])
        self.assertEqual(found.get("table", {}).get("details"), joined.get("table", {}).get("details"))

    def test_rows_of_many_files_keep_their_numbers(self) -> None:
        old = [(k, f"Z{k % 5}", k, k / 4) for k in range(4000)]
        new = [(k, a, b + (k % 500 == 3), c) for k, a, b, c in old if k != 1234]
        parts = Given(
            "new", files=tuple(Given(f"part-{n}.parquet", parquet(new[n * 1000 : (n + 1) * 1000])) for n in range(4))
        )
        details = []
        for shortcuts in (contextlib.nullcontext(), shortcuts_for_small_tables()):
            with shortcuts, Engine() as engine:
                sources = open_tables(engine, Given("old.parquet", parquet(old)), parts, ("parquet", "parquet"))
                details.append(compare_tables(engine, *sources, TableOptions(key=("k",))).rows.details)
        self.assertEqual(details[0], details[1])
        self.assertEqual([row.rows for row in details[1]][:4], [(4, 4), (504, 504), (1004, 1004), (1235, None)])

    def test_a_key_that_comes_twice_is_none(self) -> None:
        twice = [(1, "a", 1, 1.0), (2, "b", 2, 2.0), (1, "c", 3, 3.0)]
        once = [(1, "a", 1, 1.0), (2, "b", 2, 2.5)]
        far = [(k * 10**12, *cells) for k, *cells in twice]
        for old, new in ((twice, once), (once, twice), (far, once), (once, far)):
            with self.subTest(old=old, new=new), shortcuts_for_small_tables():
                found = compared(parquet(old), parquet(new), "t.parquet", key=["k"])
                self.assertIn("the key k is not unique", found["note"])
                self.assertEqual(found["table"]["key"], [])

    def test_a_key_that_is_missing_somewhere_is_none(self) -> None:
        holed = [(1, "a", 1, 1.0), (None, "b", 2, 2.0)]
        with shortcuts_for_small_tables():
            found = compared(parquet(holed), parquet([(1, "a", 1, 1.5)]), "t.parquet", key=["k"])
        self.assertIn("the key k is empty in some rows", found["note"])

    def test_only_columns_that_may_differ_are_read_again(self) -> None:
        old = [(k, "Brae", k, 1.5) for k in range(300)]
        new = [(k, "Brae", k + (k % 7 == 0), 1.5) for k in range(300)]
        asked: list[str] = []
        rows = Engine.rows

        def noted(engine: Engine, sql: str, parameters: Any = None) -> Any:
            asked.append(sql)
            return rows(engine, sql, parameters)

        with shortcuts_for_small_tables(), mock.patch.object(Engine, "rows", noted):
            found = compared(parquet(old), parquet(new), "t.parquet", key=["k"])
        self.assertEqual(counts(found)["b"], 43)
        looked = next(sql for sql in asked if sql.startswith("CREATE TEMP TABLE looked"))
        self.assertNotIn("parquet", looked)


class LineTests(unittest.TestCase):
    """Texts of which both versions have most lines."""

    @law(50)
    @given(
        LINES,
        LINES,
        st.randoms(use_true_random=False),
        st.sampled_from([",", ";", "\t"]),
        st.sampled_from(["\n", "\r\n"]),
    )
    def test_answer_is_that_of_a_full_comparison(
        self, before: dict[int, Any], after: dict[int, Any], rng: Any, delimiter: str, end: str
    ) -> None:
        old, new = ([(k, *cells) for k, cells in side.items()] for side in (before, {**before, **after}))
        rng.shuffle(new)
        sides = [text(rows, delimiter=delimiter).replace(b"\n", end.encode()) for rows in (old, new)]
        whole = compared(*sides, "t.csv", key=["k"])
        with shortcuts_for_small_tables():
            found = compared(*sides, "t.csv", key=["k"])
        self.assertEqual(counts(found) if "table" in found else None, counts(whole) if "table" in whole else None)
        if "table" in found:
            self.assertEqual(found["table"]["details"], whole["table"]["details"])

    @law(40)
    @given(st.lists(st.tuples(CELLS, CELLS), min_size=2, max_size=12), st.lists(st.tuples(CELLS, CELLS), max_size=12))
    def test_repeated_lines_are_counted_without_a_key(self, before: list[Any], more: list[Any]) -> None:
        old, new = [("x", *r) for r in before * 2], [("x", *r) for r in (before + more) * 2]
        sides = [text(rows, ("k", "a", "b")) for rows in (old, new)]
        with shortcuts_for_small_tables():
            found = compared(*sides, "t.csv")
        was, now = Counter(old), Counter(new)
        rows = found["table"]["rows"] if "table" in found else {"added": 0, "removed": 0}
        self.assertEqual((rows["added"], rows["removed"]), ((now - was).total(), (was - now).total()))

    def opened(self, before: bytes, after: bytes) -> tuple[int, int] | None:
        """How many rows of either side were not taken apart; None if both were read whole."""
        with tempfile.TemporaryDirectory() as folder, Engine() as engine, shortcuts_for_small_tables():
            sides = []
            for name, data in (("a.csv", before), ("b.csv", after)):
                (Path(folder) / name).write_bytes(data)
                sides.append(Given(name, path=Path(folder) / name))
            found = open_by_lines(engine, *sides)
            return (found[0].left_out, found[1].left_out) if found else None

    ROWS = [(k, f"Z{k % 5}", "inner, round", k * 3) for k in range(100)]

    def test_only_other_lines_are_taken_apart(self) -> None:
        new = [(k, a, b, c + (k == 50)) for k, a, b, c in self.ROWS]
        self.assertEqual(self.opened(text(self.ROWS), text(new)), (99, 99))
        self.assertEqual(self.opened(text(self.ROWS), text(self.ROWS[::-1])), (100, 100))

    def test_a_cell_over_two_lines_is_read_as_one(self) -> None:
        old = [*self.ROWS, (200, "Z1", "over\ntwo lines", 1)]
        self.assertIsNone(self.opened(text(old), text(old[::-1])))

    def test_blank_lines_and_mixed_ends_are_read_whole(self) -> None:
        plain = text(self.ROWS)
        new = text([(k, a, b, c + (k == 50)) for k, a, b, c in self.ROWS])
        self.assertIsNone(self.opened(plain, new.replace(b"\n50,", b"\n\n50,")))
        self.assertIsNone(self.opened(plain, new.replace(b"\n50,", b"\r\n50,")))

    def test_other_columns_are_read_whole(self) -> None:
        self.assertIsNone(self.opened(text(self.ROWS), text(self.ROWS, ("k", "a", "b", "d"))))

    def test_keys_of_equal_lines_count(self) -> None:
        old = [*self.ROWS, (7, "Z9", "again", 1)]  # 7 comes twice, and neither line changes
        new = [(k, a, b, c + (k == 50)) for k, a, b, c in old]
        with shortcuts_for_small_tables():
            found = compared(text(old), text(new), "t.csv", key=["k"])
        self.assertIn("not unique", found["note"])
        self.assertEqual(found["table"]["rows"]["changed"], 1)
        self.assertEqual(found["table"]["details"][0]["rows"], (51, 51))


class RowGroupTests(unittest.TestCase):
    """Parquet files that share row groups."""

    ROWS = [(k, f"Z{k % 5}", k * 3, k / 8) for k in range(1000)]

    def opened(self, before: bytes, after: bytes) -> tuple[int, int] | None:
        with Engine() as engine:
            found = open_by_row_groups(engine, Given("a.parquet", before), Given("b.parquet", after))
            return (found[0].left_out, found[1].left_out) if found else None

    def test_equal_groups_are_not_read(self) -> None:
        new = [(k, a, b + (k == 555), c) for k, a, b, c in self.ROWS]
        sides = [parquet(rows, row_group_size=100) for rows in (self.ROWS, new)]
        self.assertEqual(self.opened(*sides), (900, 900))
        found = compared(*sides, "t.parquet", key=["k"])
        self.assertEqual(counts(found), by_sql(self.ROWS, new, "k"))
        self.assertEqual(found["table"]["rows"]["before"], 1000)
        self.assertEqual(found["table"]["details"][0]["rows"], (556, 556))
        self.assertTrue(found["table"]["profiles"])

    def test_groups_that_changed_places_are_known(self) -> None:
        turned = self.ROWS[500:] + self.ROWS[:500]
        sides = [parquet(rows, row_group_size=100) for rows in (self.ROWS, turned)]
        self.assertEqual(self.opened(*sides), (1000, 1000))
        self.assertEqual([f for f in compared(*sides, "t.parquet")["findings"] if f["effect"] != "cosmetic"], [])

    def test_a_group_that_comes_twice_counts_once(self) -> None:
        once, twice = self.ROWS[:300], self.ROWS[:100] + self.ROWS[:300]
        sides = [parquet(rows, row_group_size=100) for rows in (once, twice)]
        found = compared(*sides, "t.parquet")
        self.assertEqual((found["table"]["rows"]["added"], found["table"]["rows"]["removed"]), (100, 0))

    def test_keys_in_equal_groups_count(self) -> None:
        old = [*self.ROWS[:500], (7, "again", 1, 1.0), *self.ROWS[501:]]
        new = [(k, a, b + (k == 900), c) for k, a, b, c in old]
        found = compared(*(parquet(rows, row_group_size=100) for rows in (old, new)), "t.parquet", key=["k"])
        self.assertIn("not unique", found["note"])

    def test_other_schemas_share_nothing(self) -> None:
        other = pa.schema([("k", pa.int64()), ("a", pa.string()), ("b", pa.int32()), ("c", pa.float64())])
        self.assertIsNone(self.opened(parquet(self.ROWS), parquet(self.ROWS, other)))


class FingerprintTests(unittest.TestCase):
    """Tables known by the sum of their rows."""

    ROWS = [(k, None if k % 4 == 0 else f"Z{k % 5}", k * 3, k / 8) for k in range(60)]

    def fingerprint(self, name: str, data: bytes) -> TableFingerprint:
        return fingerprint_at(Given(name, data), Rules())

    def test_any_program_can_make_it(self) -> None:
        sums = [0, 0]
        for row in self.ROWS:
            written = "".join("-" if cell is None else f"{len(str(cell).encode())}:{cell}" for cell in row)
            digest = hashlib.md5(written.encode()).digest()
            halves = int.from_bytes(digest[:8], "little"), int.from_bytes(digest[8:], "little")
            sums = [(a + b) % 2**64 for a, b in zip(sums, halves, strict=True)]
        told = {
            "columns": [["k", "integer 64"], ["a", "text"], ["b", "integer 64"], ["c", "decimal 64"]],
            "rows": 60,
            "sums": [f"{s:016x}" for s in sums],
        }
        expected = hashlib.sha256(json.dumps(told, sort_keys=True, separators=(",", ":")).encode()).hexdigest()
        self.assertEqual(self.fingerprint("t.parquet", parquet(self.ROWS)).digest, expected)

    def test_order_layout_and_parts_mean_nothing(self) -> None:
        whole = self.fingerprint("t.parquet", parquet(self.ROWS))
        turned = self.fingerprint("t.parquet", parquet(self.ROWS[::-1], row_group_size=7, compression="gzip"))
        parts = tuple(Given(f"{n}.parquet", parquet(self.ROWS[n::3])) for n in range(3))
        folder = fingerprint_at(Given("t", files=parts), Rules())
        self.assertEqual({whole.digest, turned.digest, folder.digest}, {whole.digest})
        told = compare_known(whole, folder)
        assert told is not None
        self.assertEqual({f.effect for f in told.findings}, {"cosmetic"})
        self.assertEqual(told.as_json()["table"]["rows"]["after"], 60)

    @law(80)
    @given(TABLE, TABLE)
    def test_equal_for_equal_rows_only(self, before: dict[int, Any], after: dict[int, Any]) -> None:
        old, new = ([(k, *cells) for k, cells in side.items()] for side in (before, after))
        same = self.fingerprint("t.parquet", parquet(old)).digest == self.fingerprint("t.parquet", parquet(new)).digest
        self.assertEqual(same, Counter(map(repr, old)) == Counter(map(repr, new)))

    def test_a_column_of_another_name_or_type_is_another_table(self) -> None:
        digests = {self.fingerprint("t.parquet", parquet(self.ROWS)).digest}
        for field in (pa.field("c", pa.float32()), pa.field("d", pa.float64())):
            digests.add(self.fingerprint("t.parquet", parquet(self.ROWS, SCHEMA.set(3, field))).digest)
        self.assertEqual(len(digests), 3)

    def test_what_is_no_table_has_none(self) -> None:
        self.assertEqual(self.fingerprint("notes.md", b"# Notes\n"), NO_FINGERPRINT)
        self.assertEqual(self.fingerprint("t.parquet", parquet(self.ROWS)[:-9]), NO_FINGERPRINT)


class HashTests(unittest.TestCase):
    """Hashes that do not come equally often."""

    HASHES = st.lists(st.integers(0, 12), max_size=30)

    @law(200)
    @given(HASHES, HASHES)
    def test_surplus_is_what_counting_says(self, old: list[int], new: list[int]) -> None:
        sides = [np.array(side, np.uint64) << np.uint64(55) for side in (old, new)]
        was, now = Counter(old), Counter(new)
        uneven = sorted(v for v in was | now if was[v] != now[v])
        found = surplus(*sides)
        self.assertEqual([int(h) >> 55 for h in found], uneven)
        self.assertEqual(places_of(sides[0], found).tolist(), [n for n, v in enumerate(old) if v in uneven])
