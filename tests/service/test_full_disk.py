"""A.5: a full disk, and one that became read-only, are answered with 507, lose nothing, and are over when there is room."""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
import unittest
from collections.abc import Callable
from pathlib import Path

import httpx
from bench.full_disk import campaign

from everyshelf.client import ProblemError
from tests.support.factories import commit_files
from tests.support.records import copy_records
from tests.support.service import PASSWORD, Service


class FullDiskTests(unittest.TestCase):
    """A sample of the campaign of ``make bench``."""

    def test_random_moments(self) -> None:
        outcome = campaign(12, 5)
        if outcome is None:
            self.skipTest("no small file system can be mounted here")
        self.assertEqual(outcome.wrong, [], outcome.statuses)
        self.assertGreater(outcome.statuses[507], 0)


class ReadOnlyDiskTests(unittest.TestCase):
    """A file system that goes read-only while the service runs, as Linux makes one that has failed."""

    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="es-read-only-"))
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        self.image, self.disk = self.folder / "image", self.folder / "disk"
        self.disk.mkdir()
        with self.image.open("wb") as file:
            file.truncate(300 * 1024 * 1024)
        if not all(self.ran(*act) for act in (["mkfs.ext4", "-q", "-F", str(self.image)], self.mounting())):
            self.skipTest("no file system can be mounted here")
        self.addCleanup(self.ran, "umount", "-l", str(self.disk))

    def mounting(self) -> list[str]:
        return ["mount", "-o", "loop", str(self.image), str(self.disk)]

    def ran(self, *command: str) -> bool:
        try:
            return subprocess.run(command, capture_output=True, check=False).returncode == 0
        except FileNotFoundError:
            return False

    def refused(self, act: Callable[[], object]) -> None:
        with self.assertRaises(ProblemError) as caught:
            act()
        self.assertEqual((caught.exception.status, caught.exception.code), (507, "content.storage"))
        self.assertIn("read", str(caught.exception).lower())

    def test_it_can_be_read_and_all_is_there_once_it_can_be_written_again(self) -> None:
        data = self.disk / "data"
        data.mkdir()
        copy_records(data)
        os.sync()  # what was copied for the test; what the service acknowledges is on the disk already
        (data / "log.txt").symlink_to(self.folder / "log.txt")  # of the test, not of the service
        service = Service(data)
        self.addCleanup(service.stop)
        client = service.client()
        shelf = client.shelf(client.make_shelf("Ferries").key)
        commit_files(shelf, {"fares.csv": b"zone,fare\nA,2\n"}, "First")
        self.assertTrue(self.ran("mount", "-o", "remount,abort", str(self.disk)))
        self.assertEqual(shelf.read("fares.csv"), b"zone,fare\nA,2\n")
        self.assertEqual([one.summary for one in shelf.commits()], ["First"])
        self.refused(lambda: commit_files(shelf, {"fares.csv": b"zone,fare\nA,3\n"}, "Second"))
        self.refused(lambda: shelf.make_tag("one"))
        self.refused(lambda: shelf.make_branch("try", "main"))
        self.refused(lambda: shelf.rows("fares.csv"))
        self.refused(lambda: client.sign_in_for_token("owner", PASSWORD, "one more", ["read"], 1))
        health = httpx.get(f"{service.address}/healthz")
        self.assertEqual((health.status_code, "read only" in health.text), (503, True))
        assert service.process is not None
        service.process.terminate()
        self.assertEqual(service.process.wait(30), 0)
        self.ran("umount", str(self.disk))
        self.assertTrue(self.ran(*self.mounting()))
        service.start()
        self.assertEqual(shelf.read("fares.csv"), b"zone,fare\nA,2\n")
        commit_files(shelf, {"fares.csv": b"zone,fare\nA,3\n"}, "Second")
        self.assertEqual([one.summary for one in shelf.commits()], ["Second", "First"])


if __name__ == "__main__":
    unittest.main()
