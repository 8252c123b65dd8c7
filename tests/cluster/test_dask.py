"""Large tables compared on a real Dask cluster of two processes."""

from __future__ import annotations

import dataclasses
import functools
import os
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import httpx
import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from everyshelf.cluster import dask, handing_over
from everyshelf.cluster.handing_over import HandedFile, HandingOver, forget_copies
from everyshelf.core.answers.comparisons import ComparisonAnswer
from everyshelf.core.reading.messages import FileAt
from everyshelf.core.reading.worker import WHOLE_SECONDS, Worker
from everyshelf.core.spreading import Use, spread_over
from everyshelf.core.tables import spread as spreading
from everyshelf.core.tables import stretches
from everyshelf.core.tables.columnar import open_parquet
from everyshelf.core.tables.comparing import TableComparison, compare_tables
from everyshelf.core.tables.engine import Engine
from everyshelf.core.tables.given import Given
from tests.support.dask_cluster import DaskCluster
from tests.support.factories import commit_files
from tests.support.service import Service

_ROWS = 2_600_000
_SETTINGS = {"EVERYSHELF_DASK_ROWS": "1000", "EVERYSHELF_LOG": "WARNING"}


def sailings(rows: int, *, later: int) -> pa.Table:
    """Numbers that cannot be packed; of a later version one row in a hundred has another fare, some went, some came."""
    rng = np.random.default_rng(1)
    ids, fares, loads = np.arange(rows), rng.random(rows), rng.random(rows)
    if later:
        fares[later::100] += later
        keep = ids % 1000 != 7
        ids, fares, loads = ids[keep], fares[keep], loads[keep]
        ids[-50:] += rows
    return pa.table({"id": ids, "fare": fares, "load": loads})


class ClusterTests(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.before, cls.after = (Path(folder.name, name) for name in ("before.parquet", "after.parquet"))
        for path, later in ((cls.before, 0), (cls.after, 1)):
            pq.write_table(sailings(60_000, later=later), path, row_group_size=2_000)

    def setUp(self) -> None:
        self.cluster = DaskCluster()
        self.addCleanup(self.cluster.close)
        self.addCleanup(spread_over, None)
        self.missed: list[str] = []
        self.told: list[tuple[int, int]] = []
        self.enterContext(mock.patch.object(stretches, "_STRETCH_ROWS", 4_000))
        self.enterContext(mock.patch.object(spreading, "_SHARE_ROWS", 5_000))

    def use(self) -> None:
        opened = functools.partial(dask.opened, self.cluster.address)
        spread_over(Use(opened, 1, lambda done, total: self.told.append((done, total)), self.missed.append))

    def compared(self) -> TableComparison:
        with Engine() as engine:
            sources = [open_parquet(engine, Given(path.name, path=path)) for path in (self.before, self.after)]
            return compare_tables(engine, *sources)

    def check(self) -> None:
        """What the cluster tells is what this process tells alone."""
        found = self.compared()
        spread_over(None)
        alone = self.compared()
        self.assertEqual((found.rows, found.key, found.notes), (alone.rows, alone.key, alone.notes))
        self.assertEqual((found.rows.changed, found.rows.added, found.rows.removed), (600, 50, 110))

    def test_the_answer_is_that_of_one_process(self) -> None:
        self.use()
        self.check()
        self.assertEqual((self.missed, self.told[-1]), ([], (12, 12)))

    def test_machines_without_the_disk_fetch_what_they_need(self) -> None:
        own = HandingOver.hand_over
        handed: list[HandedFile] = []

        def elsewhere(over: HandingOver, path: Path) -> HandedFile:
            handed.append(dataclasses.replace(own(over, path), path="/another/machine/has/this"))
            return handed[-1]

        self.use()
        with mock.patch.object(HandingOver, "hand_over", elsewhere):
            self.check()
        self.assertEqual((self.missed, len(handed)), ([], 2))
        with self.assertRaises(httpx.HTTPError):  # nothing is handed over any more
            httpx.get(handed[0].address, trust_env=False)

    def test_a_worker_that_is_killed_changes_nothing(self) -> None:
        killed: list[int] = []

        def tell(done: int, total: int) -> None:
            if not killed:
                killed.append(done)
                self.cluster.kill_worker()

        spread_over(Use(functools.partial(dask.opened, self.cluster.address), 1, tell, self.missed.append))
        self.check()
        self.assertEqual((self.missed, killed), ([], [1]))

    def test_without_workers_or_scheduler_the_work_is_done_here(self) -> None:
        for worker in self.cluster.workers:
            worker.kill()
            worker.wait()
        self.use()
        self.check()
        self.cluster.close()
        with mock.patch.object(dask, "_SECONDS", 1):
            self.use()
            self.check()
        self.assertEqual(len(self.missed), 2)
        self.assertIn("does not answer", self.missed[1])


class HandingOverTests(unittest.TestCase):
    def test_ranges_are_given_and_nothing_else(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        (folder / "a").write_bytes(bytes(range(256)) * 1000)
        (folder / "b").write_bytes(b"secret")
        over = HandingOver("127.0.0.1")
        self.addCleanup(over.close)
        handed = over.hand_over(folder / "a")
        self.assertEqual(handed.local([(0, 4)]), (folder / "a").resolve())
        far = dataclasses.replace(handed, path=str(folder / "away"))
        copy = far.local([(256, 300), (255_000, 256_000)])
        data = copy.read_bytes()
        self.assertEqual((data[256:300], data[255_000:]), (bytes(range(44)), (folder / "a").read_bytes()[255_000:]))
        self.assertEqual((len(data), data[:256]), (256_000, bytes(256)))
        with mock.patch.object(handing_over, "_KEPT_SECONDS", -1.0):
            other = dataclasses.replace(over.hand_over(folder / "b"), path="/away").local([(0, 6)])
        self.assertEqual((copy.exists(), other.read_bytes()), (False, b"secret"))  # it was not asked for any more
        forget_copies(over.addresses)
        self.assertFalse(other.exists())
        with httpx.Client(trust_env=False) as client:
            base = handed.address.rpartition("/")[0]
            for address, asked, status in (
                (handed.address, "bytes=0-255999", 206),
                (handed.address, "bytes=0-256000", 416),
                (handed.address, "bytes=9-3", 416),
                (handed.address, "", 416),
                (f"{base}/a", "bytes=0-3", 404),
                (f"{base}/../a", "bytes=0-3", 404),
            ):
                self.assertEqual(client.get(address, headers={"Range": asked}).status_code, status, (address, asked))

    def test_a_file_that_changed_is_not_taken_for_the_one_that_was_meant(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        (folder / "a").write_bytes(b"before")
        over = HandingOver("127.0.0.1")
        self.addCleanup(over.close)
        handed = over.hand_over(folder / "a")
        os.utime(folder / "a", ns=(1, 1))
        self.assertNotEqual(handed.local([(0, 6)]), (folder / "a").resolve())


class ServiceTests(unittest.TestCase):
    def test_a_large_comparison_runs_on_the_cluster_and_goes_on_without_it(self) -> None:
        cluster = DaskCluster()
        self.addCleanup(cluster.close)
        service = Service(settings={**_SETTINGS, "EVERYSHELF_DASK": cluster.address})
        self.addCleanup(service.stop)
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        client = service.client()
        shelf = client.shelf(client.make_shelf("Large").key)
        for number in range(3):
            table = sailings(_ROWS, later=number)
            pq.write_table(table, folder / f"{number}.parquet", row_group_size=200_000, use_dictionary=False)
            data = (folder / f"{number}.parquet").read_bytes()
            commit_files(shelf, {"data/sailings.parquet": data}, f"Version {number}")
            shelf.make_tag(f"v{number}")
        found = shelf.compare_artifact("data/sailings.parquet", "tag:v0", "tag:v1")
        alone = self.alone(folder / "0.parquet", folder / "1.parquet")
        assert found.table is not None and alone.table is not None
        self.assertEqual((found.table.rows, found.table.cells), (alone.table.rows, alone.table.cells))
        self.assertEqual(found.table.details, alone.table.details)
        self.assertNotIn("the cluster did not compare", (service.data / "log.txt").read_text())
        cluster.close()
        found = shelf.compare_artifact("data/sailings.parquet", "tag:v0", "tag:v2")
        assert found.table is not None
        self.assertEqual((found.table.rows.added, found.table.rows.changed), (50, 26_000))
        self.assertIn("the cluster did not compare", (service.data / "log.txt").read_text())

    def alone(self, before: Path, after: Path) -> ComparisonAnswer:
        """What a reading process tells that works alone."""
        worker = Worker(deadline_seconds=WHOLE_SECONDS, memory_bytes=1024**3)
        self.addCleanup(worker.close)
        name = "data/sailings.parquet"
        return worker.compare(FileAt(name, str(before)), FileAt(name, str(after)))
