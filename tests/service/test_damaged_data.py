"""A.1, A.5, A.9: a data folder that was damaged starts, or says why it does not; what is harmed is named."""

from __future__ import annotations

import os
import random
import shutil
import sqlite3
import subprocess
import sys
import tempfile
import time
import unittest
from contextlib import closing
from pathlib import Path

from everyshelf.client import ShelfClient
from tests.support.factories import commit_files
from tests.support.service import PASSWORD, Service


class DataCase(unittest.TestCase):
    """A data folder with one shelf, its service stopped."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.kept = Path(tempfile.mkdtemp(prefix="es-damage-"))
        cls.addClassCleanup(shutil.rmtree, cls.kept, ignore_errors=True)
        (cls.kept / "data").mkdir()
        service = Service(cls.kept / "data")
        with service.client() as client:
            shelf = client.shelf(client.make_shelf("Damage").key)
            rng = random.Random(1)
            for n in range(3):
                commit_files(shelf, {f"{k}.txt": rng.randbytes(300) for k in range(n * 8, n * 8 + 8)}, f"Commit {n}")
            shelf.make_tag("one")
            shelf.make_environment("live")
            shelf.wait(shelf.promote("one", "live"))
            cls.files = {a.path: shelf.read(a.path) for a in shelf.artifacts()}
            cls.key = shelf.key
        service.stop()

    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="es-damage-"))
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        shutil.copytree(self.kept / "data", self.folder / "data")
        shutil.copy(self.kept / "data.key", self.folder / "data.key")
        self.data = self.folder / "data"

    def started(self) -> tuple[Service, ShelfClient]:
        service = Service(self.data)
        self.addCleanup(service.stop)
        client = service.client()
        self.addCleanup(client.close)
        return service, client.shelf(self.key)

    def verified(self, shelf: ShelfClient) -> list[str]:
        return list((shelf.wait(shelf.verify()).result or {})["problems"])

    def refused(self) -> str:
        """How ``serve`` ends."""
        done = subprocess.run(
            [sys.executable, "-m", "everyshelf.cli.main", "serve", "--port", "1", "--data", str(self.data)],
            capture_output=True,
            text=True,
            env={**os.environ, "EVERYSHELF_OWNER_PASSWORD": PASSWORD},
            check=False,
        )
        self.assertEqual(done.returncode, 1, done.stdout)
        self.assertNotIn("Traceback", done.stderr)
        return done.stderr


class StartTests(DataCase):
    """What start says."""

    def test_an_orderly_stop_seals_every_segment(self) -> None:
        segments = self.data / "segments"
        self.assertEqual(
            {p.stem for p in segments.glob("*.seg")}, {p.stem for p in segments.glob("*.dir")}, "left open by a stop"
        )

    def test_an_unknown_format_is_refused(self) -> None:
        (self.data / "format").write_text("99\n")
        self.assertIn("serve.format", self.refused())

    def test_a_folder_of_an_older_version_is_refused_and_untouched(self) -> None:
        (self.data / "format").unlink()
        before = {p.name: p.read_bytes() for p in (self.data / "segments").iterdir()}
        self.assertIn("serve.format", self.refused())
        self.assertEqual({p.name: p.read_bytes() for p in (self.data / "segments").iterdir()}, before)

    def test_an_empty_key_is_named(self) -> None:
        for key in (self.data / "secret-key", self.data.with_name("data.key")):
            good = key.read_bytes()
            key.write_bytes(b"")
            said = self.refused()
            self.assertIn(str(key), said)
            key.write_bytes(good)
        self.started()

    def test_damaged_records_are_named(self) -> None:
        records = self.data / "records.sqlite"
        data = records.read_bytes()
        records.write_bytes(b"SQLite format 3\0" + random.Random(1).randbytes(len(data) - 16))
        self.assertIn("serve.records", self.refused())


class VerifyTests(DataCase):
    """What ``verify`` names."""

    def test_a_damaged_open_segment_costs_what_lies_there(self) -> None:
        segment = max((self.data / "segments").glob("*.seg"), key=lambda p: p.stat().st_size)
        segment.with_suffix(".dir").unlink()
        data = bytearray(segment.read_bytes())
        data[data.find(self.files["5.txt"]) + 9] ^= 1
        segment.write_bytes(bytes(data))
        service, shelf = self.started()
        self.assertIn("are damaged", service.log())
        problems = self.verified(shelf)
        self.assertTrue(any("5.txt version 1" in p for p in problems), problems)
        self.assertTrue(any(segment.name in p for p in problems), problems)
        for path, content in self.files.items():
            if path != "5.txt":
                self.assertEqual(shelf.read(path), content)

    def test_records_that_do_not_match(self) -> None:
        with closing(sqlite3.connect(self.data / "records.sqlite")) as records:
            records.execute("PRAGMA foreign_keys = OFF")
            records.execute("UPDATE shelves_artifact SET versions_made = 7 WHERE id = 1")
            records.execute("UPDATE shelves_commit SET description = 'another' WHERE id = 2")
            records.execute("DELETE FROM shelves_shelfcontent WHERE id = 3")
            records.execute("UPDATE environments_deployment SET manifest = ?", ["0" * 64])
            records.execute("UPDATE shelves_commit SET recorded = '2001-01-01' WHERE id = 3")
            records.commit()
        _, shelf = self.started()
        problems = "\n".join(self.verified(shelf))
        for words in (
            "7 versions are counted",
            "says something else than its body",
            "is not recorded",
            "deployment 1 of live",
            "was recorded before the one it builds on",
        ):
            self.assertIn(words, problems)

    def test_records_that_make_no_sense(self) -> None:
        with closing(sqlite3.connect(self.data / "records.sqlite")) as records:
            records.execute("UPDATE shelves_commit SET root = 'zz' || substr(root, 3) WHERE id = 2")
            records.execute("UPDATE shelves_shelfcontent SET content = 'no id' WHERE id = 3")
            records.execute("UPDATE shelves_artifactversion SET size = 'much' WHERE id = 5")
            records.execute("UPDATE environments_environment SET address = char(0)")
            records.commit()
        _, shelf = self.started()
        problems = "\n".join(self.verified(shelf))
        self.assertIn("is not a content id", problems)
        self.assertIn("names another root than its body", problems)


class FlippedTests(DataCase):
    """A sample of the campaign of ``make bench``."""

    def test_flips(self) -> None:
        from bench.flips import campaign

        outcome = campaign(self.data, self.files, self.key, seed=4, stores=30, services=3)
        self.assertEqual(outcome.wrong, [])
        self.assertEqual(outcome.flips, 33)


class ClockTests(unittest.TestCase):
    """A.9: times of a line grow, whatever the clock does."""

    def test_the_clock_goes_back(self) -> None:
        service = Service()
        self.addCleanup(service.stop)
        with service.client() as client:
            shelf = client.shelf(client.make_shelf("Clock").key)
            first = commit_files(shelf, {"a.txt": b"1"}, "First")
            # As if the clock had been two hours ahead when the first was recorded.
            service.run_python(
                "from datetime import timedelta; from django.db.models import F\n"
                "from everyshelf.service.shelves.models import Commit\n"
                "Commit.objects.update(recorded=F('recorded') + timedelta(hours=2))"
            )
            second = commit_files(shelf, {"a.txt": b"2"}, "Second")
            times = {c.commit: c.recorded for c in shelf.commits()}
            self.assertGreater(times[second.commit], times[first.commit])
            now = time.strftime("%Y-%m-%dT%H:%M:%S", time.gmtime(time.time() + 2))
            for ref in ("at:now", f"at:{now}", "at:9999-12-31"):
                self.assertEqual(shelf.read("a.txt", ref), b"2", ref)
