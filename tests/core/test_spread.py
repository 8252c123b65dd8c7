"""Tables compared in parts: whatever is told is what one process tells."""

from __future__ import annotations

import random
import tempfile
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

import pyarrow as pa
import pyarrow.parquet as pq

from everyshelf.core.reading.messages import FileAt, Spreading
from everyshelf.core.reading.worker import Worker
from everyshelf.core.spreading import spread_over
from everyshelf.core.tables import spread as spreading
from everyshelf.core.tables import stretches
from everyshelf.core.tables.columnar import open_parquet
from everyshelf.core.tables.comparing import TableComparison, compare_tables
from everyshelf.core.tables.engine import Engine
from everyshelf.core.tables.given import Given
from everyshelf.core.tables.options import TableOptions
from everyshelf.core.tables.stretches import made_by, row_stretches
from tests.support.in_turn import InTurn


class SpreadTests(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.spread = InTurn()
        self.told: list[tuple[int, int]] = []
        self.missed: list[str] = []
        self.addCleanup(spread_over, None)
        self.enterContext(mock.patch.object(stretches, "_STRETCH_ROWS", 300))
        self.enterContext(mock.patch.object(spreading, "_SHARE_ROWS", 400))

    def use(self, worth: int = 1) -> None:
        self.spread.use(worth, lambda done, total: self.told.append((done, total)), self.missed.append)

    def file(self, name: str, columns: dict[str, Any], group: int = 128) -> Path:
        path = self.folder / name
        pq.write_table(pa.table(columns), path, row_group_size=group)
        return path

    def compared(self, before: Path, after: Path, **options: Any) -> TableComparison:
        with Engine() as engine:
            sources = [open_parquet(engine, Given(path.name, path=path)) for path in (before, after)]
            return compare_tables(engine, *sources, TableOptions(**options))

    def both(self, before: Path, after: Path, **options: Any) -> TableComparison:
        """The comparison in parts, which has to be that of one process."""
        spread_over(None)
        alone = self.compared(before, after, **options)
        self.use()
        found = self.compared(before, after, **options)
        for name in ("rows", "key", "notes", "renumbered", "unrelated"):
            self.assertEqual(getattr(found, name), getattr(alone, name), name)
        return found

    def test_random_tables_of_every_shape(self) -> None:
        for seed in range(12):
            with self.subTest(seed=seed):
                rng = random.Random(seed)
                rows = [
                    {"id": n, "part": n % 7, "zone": f"Z{rng.randrange(9)}", "fare": round(rng.random() * 99, 2)}
                    for n in range(rng.randint(200, 1500))
                ]
                later = [dict(row) for row in rows if rng.random() > 0.03]
                for row in later:
                    if rng.random() < 0.05:
                        row["fare"] = rng.choice((round(row["fare"]), None, row["fare"] + 1))
                    if rng.random() < 0.02:
                        row["zone"] = " Z0"
                later += [{"id": 10_000 + n, "part": 1, "zone": "new", "fare": 1.0} for n in range(rng.randint(0, 40))]
                if seed % 2:
                    rng.shuffle(later)
                names = ("text", "id", "both")[seed % 3]
                before, after = (self._written(names, name, some) for name, some in (("a", rows), ("b", later)))
                found = self.both(before, after, key={"both": ("part", "id")}.get(names, ("id",)))
                self.assertTrue(found.rows.changed)
        self.assertGreater(self.spread.parts, 100)
        self.assertEqual(self.told[-1][0], self.told[-1][1])
        self.assertEqual(self.missed, [])

    def _written(self, names: str, name: str, rows: list[dict[str, Any]]) -> Path:
        columns: dict[str, Any] = {key: [row[key] for row in rows] for key in rows[0]}
        if names == "text":
            columns["id"] = [f"no {n}" for n in columns["id"]]
        elif name == "b":  # another type on either side: equal keys must still come together
            columns["id"] = pa.array(columns["id"], (pa.int32(), pa.float64())[len(rows) % 2])
        return self.file(name, columns, group=random.Random(len(rows)).choice((50, 128, 1000)))

    def test_a_key_that_comes_twice_or_is_empty(self) -> None:
        for odd in ([*range(999), 5], [*range(999), None]):
            before = self.file("a", {"id": list(range(1000)), "fare": list(range(1000))})
            after = self.file("b", {"id": odd, "fare": list(range(1000))})
            found = self.both(before, after, key=("id",))
            self.assertIn("so rows were compared without one", " ".join(found.notes))

    def test_small_tables_and_those_of_other_files_are_not_spread(self) -> None:
        before = self.file("a", {"id": list(range(1000)), "fare": list(range(1000))})
        after = self.file("b", {"id": list(range(1000)), "fare": list(range(1, 1001))})
        self.use(worth=1001)
        self.assertEqual(self.compared(before, after).rows.changed, 1000)
        self.assertEqual(self.spread.parts, 0)
        self.use(worth=1000)
        self.assertEqual(self.compared(before, after).rows.changed, 1000)
        self.assertGreater(self.spread.parts, 0)

    def test_what_goes_down_is_told_and_the_answer_is_the_same(self) -> None:
        before = self.file("a", {"id": list(range(1000)), "fare": list(range(1000))})
        after = self.file("b", {"id": list(range(1000)), "fare": [n - n % 3 for n in range(1000)]})
        self.spread.breaks_after = 5
        self.both(before, after, key=("id",))
        self.assertEqual(self.missed, ["it went down"])

    def test_a_process_with_other_versions_is_refused(self) -> None:
        before = self.file("a", {"id": list(range(1000)), "fare": list(range(1000))})
        self.use()
        told = iter([("0", "0")])
        with (
            mock.patch.object(stretches, "made_by", lambda: next(told, made_by())),
            self.assertRaisesRegex(Exception, "versions"),
        ):
            self.compared(before, self.file("b", {"id": list(range(1000)), "fare": list(range(1, 1001))}))

    def test_without_what_reaches_them_the_reading_process_does_the_work(self) -> None:
        before = self.file("a", {"id": list(range(1000)), "fare": list(range(1000))})
        after = self.file("b", {"id": list(range(1000)), "fare": list(range(1, 1001))})
        worker = Worker(spreading=Spreading("everyshelf.core.nowhere:opened", "tcp://127.0.0.1:9", 1))
        self.addCleanup(worker.close)
        found = worker.compare(FileAt("a.parquet", str(before)), FileAt("a.parquet", str(after)))
        assert found.table is not None
        self.assertEqual(found.table.rows.changed, 1000)
        self.assertIn("is not installed", worker.missed)

    def test_stretches_hold_all_rows_once(self) -> None:
        path = self.file("a", {"id": list(range(1000)), "fare": list(range(1000))}, group=70)
        cut = list(row_stretches(path))
        self.assertGreater(len(cut), 2)
        self.assertEqual([low for low, _, _ in cut], [1, *(high + 1 for _, high, _ in cut[:-1])])
        self.assertEqual(cut[-1][1], 1000)
        size = path.stat().st_size
        for _, _, needed in cut:
            self.assertTrue(all(0 <= start < stop <= size for start, stop in needed), needed)
            self.assertLess(sum(stop - start for start, stop in needed), size)
