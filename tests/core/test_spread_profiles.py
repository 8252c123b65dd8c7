"""Fingerprints and profiles of large tables, worked out in stretches: they are those of one process."""

from __future__ import annotations

import datetime
import decimal
import math
import random
import tempfile
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
from hypothesis import given
from hypothesis import strategies as st

from everyshelf.core.answers.tables import ColumnProfile, TableFingerprint
from everyshelf.core.spreading import spread_over
from everyshelf.core.tables import profiles, stretches
from everyshelf.core.tables.columnar import open_parquet
from everyshelf.core.tables.comparing import compare_tables
from everyshelf.core.tables.engine import Engine
from everyshelf.core.tables.fingerprint import fingerprint_of
from everyshelf.core.tables.given import Given
from everyshelf.core.tables.options import TableOptions
from everyshelf.core.tables.profile_parts import estimated, registers_of
from everyshelf.core.tables.profiles import profile_table, profile_tables
from tests.support.in_turn import InTurn
from tests.support.laws import law

_DAY = datetime.date(2026, 1, 1)


def sailings(rows: int, seed: int, *, later: bool = False) -> dict[str, Any]:
    """Columns of every type that a Parquet file of ours may hold."""
    rng = random.Random(seed)
    fares = [None if rng.random() < 0.05 else round(rng.gauss(20 + 3 * later, 4), 2) for _ in range(rows)]
    return {
        "id": pa.array(range(rows), pa.int64()),
        "fare": pa.array(fares, pa.float64()),
        "price": pa.array([decimal.Decimal(rng.randrange(10**6)) / 100 for _ in range(rows)], pa.decimal128(12, 2)),
        "berth": pa.array([rng.randrange(rows // 3) for _ in range(rows)], pa.int32()),
        "zone": pa.array([f"Z{rng.randrange(9)}" if rng.random() > 0.1 else "" for _ in range(rows)]),
        "ticket": pa.array([f"{rng.randrange(rows // 2):08x}" for _ in range(rows)]),
        "day": pa.array([_DAY + datetime.timedelta(rng.randrange(300)) for _ in range(rows)], pa.date32()),
        "sold": pa.array(
            [
                datetime.datetime(2026, 1, 1, tzinfo=datetime.UTC) + datetime.timedelta(seconds=n * 7)
                for n in range(rows)
            ],
            pa.timestamp("us", "UTC"),
        ),
        "open": pa.array([rng.random() < 0.5 for _ in range(rows)]),
        "mark": pa.array([bytes([n % 256, 7]) for n in range(rows)], pa.binary()),
        "stops": pa.array([[n % 3, n % 5] for n in range(rows)], pa.list_(pa.int16())),
        "load": pa.array([math.inf if n == 5 else math.nan if n == 6 else n % 97 / 7 for n in range(rows)]),
        "note": pa.array([None] * rows, pa.string()),
    }


class InPartsTests(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.spread = InTurn()
        self.missed: list[str] = []
        self.told: list[tuple[int, int]] = []
        self.addCleanup(spread_over, None)
        self.enterContext(mock.patch.object(stretches, "_STRETCH_ROWS", 700))
        self.enterContext(mock.patch.object(profiles, "PROFILE_ROWS", 1500))

    def use(self) -> None:
        self.spread.use(1, lambda done, total: self.told.append((done, total)), self.missed.append)

    def file(self, name: str, columns: dict[str, Any]) -> Path:
        path = self.folder / name
        pq.write_table(pa.table(columns), path, row_group_size=250)
        return path

    def fingerprint(self, path: Path) -> TableFingerprint:
        with Engine() as engine:
            return fingerprint_of(engine, open_parquet(engine, Given(path.name, path=path)))

    def profile(self, *paths: Path) -> list[ColumnProfile]:
        with Engine() as engine:
            sources = [open_parquet(engine, Given(path.name, path=path)) for path in paths]
            if len(sources) == 1:
                return [one.answer() for one in profile_table(engine, sources[0])]
            found = compare_tables(engine, *sources, TableOptions(key=("id",)))
            return [one.answer() for one in profile_tables(engine, *sources, found.columns, TableOptions(), ["id"])]

    def check(self, alone: list[ColumnProfile], found: list[ColumnProfile]) -> None:
        """Equal, but for how many different values are estimated, and the last digits of a mean."""
        self.assertEqual([one.column for one in found], [one.column for one in alone])
        for one, other in zip(found, alone, strict=True):
            for mine, theirs in ((one.before, other.before), (one.after, other.after)):
                if mine is None or theirs is None:
                    self.assertEqual(mine, theirs)
                    continue
                with self.subTest(one.column):
                    self.assertAlmostEqual(max(mine.distinct, 1) / max(theirs.distinct, 1), 1, delta=0.15)
                    mine.distinct = theirs.distinct
                    if mine.numbers is not None and theirs.numbers is not None:
                        self.assertEqual(mine.numbers.mean is None, theirs.numbers.mean is None)
                        self.assertAlmostEqual(mine.numbers.mean or 0.0, theirs.numbers.mean or 0.0, places=6)
                        mine.numbers.mean = theirs.numbers.mean
            with self.subTest(one.column):
                self.assertEqual(one, other)

    def test_a_fingerprint_is_that_of_one_process(self) -> None:
        path = self.file("a.parquet", sailings(3000, 1))
        alone = self.fingerprint(path)
        self.use()
        self.assertEqual(self.fingerprint(path), alone)
        self.assertEqual((self.spread.parts, self.told[-1], self.missed), (4, (4, 4), []))

    def test_a_fingerprint_that_was_cut_short_is_worked_out_here(self) -> None:
        path = self.file("a.parquet", sailings(3000, 1))
        alone = self.fingerprint(path)
        self.spread.breaks_after = 2
        self.use()
        self.assertEqual((self.fingerprint(path), self.missed), (alone, ["it went down"]))

    def test_a_profile_is_that_of_one_process(self) -> None:
        path = self.file("a.parquet", sailings(6000, 2))
        alone = self.profile(path)
        self.use()
        found = self.profile(path)
        self.check(alone, found)
        self.assertEqual((self.spread.parts, self.missed), (8, []))

    def test_a_table_that_is_looked_at_whole_is_profiled_here(self) -> None:
        path = self.file("a.parquet", sailings(1400, 2))
        alone = self.profile(path)
        self.use()
        self.check(alone, self.profile(path))
        self.assertEqual((self.spread.parts, self.missed), (0, []))

    def test_profiles_of_two_versions_look_at_the_same_rows(self) -> None:
        before = self.file("a.parquet", sailings(6000, 3))
        after = self.file(
            "b.parquet", {**sailings(5500, 3, later=True), "crew": pa.array([n % 12 for n in range(5500)], pa.int8())}
        )
        alone = self.profile(before, after)
        self.use()
        self.check(alone, self.profile(before, after))
        self.assertEqual(self.missed, [])

    def test_a_profile_that_was_cut_short_is_worked_out_here(self) -> None:
        path = self.file("a.parquet", sailings(6000, 2))
        alone = self.profile(path)
        self.spread.breaks_after = 3
        self.use()
        found = self.profile(path)
        self.check(alone, found)
        self.assertEqual(self.missed, ["it went down"])


class EstimateTests(unittest.TestCase):
    """The estimate of how many different values there are."""

    @law(12)
    @given(st.integers(0, 400_000), st.integers(1, 5))
    def test_it_is_near_the_truth_whatever_the_rows(self, different: int, times: int) -> None:
        with Engine() as engine:
            relation = f"(SELECT range % {max(different, 1)} AS v FROM range({different * times}))"
            found = estimated(registers_of(engine, relation, "v"))
        self.assertLessEqual(abs(found - different), 3 + 0.09 * different)  # five standard errors

    def test_stretches_say_together_what_all_rows_say(self) -> None:
        with Engine() as engine:
            relation = "(SELECT range AS r, (range * 7) % 30000 AS v FROM range(90000))"
            every = registers_of(engine, relation, "v")
            parts = [registers_of(engine, f"(SELECT * FROM {relation} WHERE r % 3 = {n})", "v") for n in range(3)]
        self.assertTrue(np.array_equal(every, np.maximum.reduce(parts)))
