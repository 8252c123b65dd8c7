"""What administrators see of their installation on *Your account*: its backups, and what its store holds."""

from __future__ import annotations

import random
import shutil
import tempfile
import unittest
from pathlib import Path

from everyshelf.service.backups.folder import BackupFolder
from tests.support.browser import Browser
from tests.support.bucket import CREDENTIALS, BucketServer
from tests.support.factories import commit_files
from tests.support.service import PASSWORD, Service


class InstallationTests(unittest.TestCase):
    """A service of its own, with a folder for backups."""

    service: Service
    server: BucketServer
    browser: Browser
    kept: Path

    @classmethod
    def setUpClass(cls) -> None:
        folder = Path(tempfile.mkdtemp(prefix="es-installation-"))
        cls.addClassCleanup(shutil.rmtree, folder, ignore_errors=True)
        cls.kept = folder / "kept"
        cls.server = BucketServer(cls)
        cls.service = Service(
            settings={
                "EVERYSHELF_BACKUP": str(cls.kept),
                "EVERYSHELF_BACKUP_HOURS": "0",
                "EVERYSHELF_BACKUP_KEEP": "2",
                "EVERYSHELF_TIDY_HOURS": "0",
                **CREDENTIALS,
            }
        )
        cls.addClassCleanup(cls.service.stop)
        client = cls.service.client()
        client.add_person("author", "Author", PASSWORD)
        shelf, chance = client.make_shelf("Fares", key="fares"), random.Random(1)
        lines = [f"{n},{chance.random():.6f}\n".encode() for n in range(9000)]
        for n in range(4):
            lines[n * 100] = b"0,0.5\n"
            commit_files(client.shelf(shelf.key), {"fares.csv": b"".join(lines)}, f"Fares {n}")
        cls.browser = Browser()
        cls.addClassCleanup(cls.browser.close)
        cls.browser.sign_in(cls.service.address, "owner", PASSWORD)

    def tearDown(self) -> None:
        self.assertEqual(self.browser.complaints(), [])

    def open(self) -> None:
        self.browser.open(f"{self.service.address}/account")

    def test_versions_move_to_a_bucket_and_back(self) -> None:
        self.open()
        self.browser.see("Versions live on the machine of the service")
        self.browser.press("Move versions")
        self.browser.type_into("Bucket and prefix", "s3://nowhere/x")
        self.browser.type_into(
            "Address of the service that has the bucket, if it is one of your own", self.server.endpoint
        )
        self.browser.press("Move")
        self.browser.see("The last move failed.")
        self.browser.see("s3://nowhere/x at http://127.0.0.1")
        self.browser.press("Move versions")
        self.browser.type_into("Bucket and prefix", "s3://versions/console")
        self.browser.type_into(
            "Address of the service that has the bucket, if it is one of your own", self.server.endpoint
        )
        self.assertEqual(self.browser.axe(), [])
        self.browser.press("Move")
        self.browser.see("Versions live in s3://versions/console")
        self.browser.press("Move versions")
        self.browser.press("Back to this machine")
        self.browser.see("Versions live on the machine of the service")

    def test_the_store_is_tidied(self) -> None:
        self.open()
        self.browser.see("4 versions of")
        self.browser.see("of new versions have not been looked at")
        self.browser.press("Tidy now")
        self.browser.see("kept as what they change of another; that has saved")
        self.browser.see("Tidied today")
        self.assertEqual(self.service.client().storage().waiting, 0)
        self.assertNotIn("have not been looked at", self.browser.text())
        self.assertEqual(self.browser.axe(), [])
        self.service.client().shelf("fares").upload(b"never used")
        self.browser.press("Tidy now")
        self.browser.see("1 content of 10 B sent and never used")
        self.browser.press("List them")
        self.browser.wait_for(lambda: self.browser.texts("[role=dialog] tbody td")[1:3] == ["10 B", "fares"])
        self.assertEqual(self.browser.axe(), [])

    def test_back_up_now(self) -> None:
        self.open()
        self.browser.see("No backup was made yet.")
        self.browser.see(f"In {self.kept}, only when you ask; the newest 2 are kept.")
        self.browser.press("Back up now")
        self.browser.see("read back")
        self.browser.see("Backed up today")
        self.assertEqual(len(BackupFolder.open(self.kept).all()), 1)
        self.browser.press("Back up now")
        self.browser.wait_for(lambda: len(self.browser.texts("[aria-label='All backups'] tbody tr")) == 2)
        self.assertEqual(self.browser.axe(), [])

    def test_others_see_none_of_it(self) -> None:
        other = Browser()
        try:
            other.sign_in(self.service.address, "author", PASSWORD)
            other.open(f"{self.service.address}/account")
            other.see("Change your password")
            for words in ("Tidy now", "Back up now", "accounts on this installation"):
                self.assertNotIn(words, other.text())
        finally:
            other.close()
