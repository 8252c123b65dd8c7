"""A seeded sample of the crash campaign, and proof that its judge catches a broken journal."""

from __future__ import annotations

import json
import os
import tempfile
import unittest
from pathlib import Path

from bench.crashes import Campaign
from bench.cut_short import CutShort
from bench.judge import fingerprint, judge

from tests.support.factories import ServiceCase
from tests.support.laws import in_full


class CrashTests(unittest.TestCase):
    """Killed with -9 from outside while commits and promotions run."""

    def test_nothing_acknowledged_is_lost_and_environments_stay_whole(self) -> None:
        done = Campaign(seed=42, kills=3).run()
        self.assertEqual(done.problems, [])
        self.assertGreater(len(done.acknowledged), 5)
        self.assertGreaterEqual(done.promoted, 1)

    def test_promotions_to_every_destination_are_whole_whatever_happens(self) -> None:
        done = CutShort(seed=1, runs=4).run()
        self.assertEqual(done.problems, [])
        self.assertEqual(sum(done.ended.values()), 4)


# A build of the product whose switch is no switch: it changes the files in place, one after the other.
BROKEN_SWITCH = """
import os, shutil, time
from everyshelf.core.promotion import folder

whole = folder.FolderDestination.switch

def switch(self, key):
    current = self.root / "now"
    if current.exists():
        fresh, shown = self.root / "deployed" / key, current.resolve()
        for file in sorted(p for p in fresh.rglob("*") if p.is_file()):
            target = shown / file.relative_to(fresh)
            target.parent.mkdir(parents=True, exist_ok=True)
            target.unlink(missing_ok=True)
            shutil.copy(file, target)
            time.sleep(0.05)
    whole(self, key)

folder.FolderDestination.switch = switch
"""


@in_full
class BrokenBuildTests(unittest.TestCase):
    """The same campaign against a product broken on purpose."""

    def test_switch_that_is_none_is_caught(self) -> None:
        with tempfile.TemporaryDirectory(prefix="es-broken-") as folder:
            (Path(folder) / "sitecustomize.py").write_text(BROKEN_SWITCH)
            problems: list[str] = []
            # The half-made state lasts about a second of each promotion: three kills may all miss it, fifteen do not.
            for seed in range(7, 12):
                problems += (
                    Campaign(seed=seed, kills=3, settings={"PYTHONPATH": folder}, longest_delay=2.0).run().problems
                )
                if any("is not exactly what any tag holds" in p for p in problems):
                    return
        self.fail(f"a switch that is none went unnoticed: {problems}")


# The same for a database: a transaction that is none.
BROKEN_TRANSACTION = """
import time
from everyshelf.core.databases import sqlite

whole = sqlite._SqliteChanges.put

def put(self, table, rows, *, replacing):
    for row in list(rows):
        whole(self, table, [row], replacing=replacing)
        self._records.execute("COMMIT")
        time.sleep(0.003)
        self._records.execute("BEGIN IMMEDIATE")

sqlite._SqliteChanges.put = put
"""


@in_full
class BrokenTransactionTests(unittest.TestCase):
    """The campaign over destinations against a product broken on purpose."""

    def test_transaction_that_is_none_is_caught(self) -> None:
        with tempfile.TemporaryDirectory(prefix="es-broken-") as folder:
            (Path(folder) / "sitecustomize.py").write_text(BROKEN_TRANSACTION)
            for seed in range(3, 8):
                said = {"sorts": ("sqlite",), "settings": {"PYTHONPATH": folder}, "only_kills": True}
                done = CutShort(seed=seed, runs=2, **said).run()
                if any("is not exactly what any tag holds" in problem for problem in done.problems):
                    return
        self.fail("a transaction that is none went unnoticed")


class JudgeTests(ServiceCase):
    """A judge that never finds anything proves nothing."""

    def setUp(self) -> None:
        super().setUp()
        made = self.put({"a.txt": b"a", "b.txt": b"b"})
        self.shelf.make_tag("t")
        self.folder = Path(self.shelf.make_environment("test").address)
        self.shelf.wait(self.shelf.promote("t", "test"))
        found = fingerprint(self.folder)
        assert found is not None
        self.record = json.loads(
            json.dumps({"commits": [made.commit], "environments": {"test": str(self.folder)}, "tags": {"t": found}})
        )

    def judged(self) -> list[str]:
        return judge(self.service.data, self.record)

    def test_whole_state_is_found_whole(self) -> None:
        self.assertEqual(self.judged(), [])

    def test_half_switched_environment_is_caught(self) -> None:
        # What a journal without its atomic switch would leave: files replaced one after the other.
        (self.folder / "now" / "b.txt").unlink()
        self.assertEqual(len(self.judged()), 1)
        (self.folder / "now").unlink()
        os.symlink("deployed/nowhere", self.folder / "now")
        self.assertEqual(len(self.judged()), 1)

    def test_lost_commit_is_caught(self) -> None:
        self.record["commits"].append("0" * 64)
        self.assertIn("is gone", self.judged()[0])
