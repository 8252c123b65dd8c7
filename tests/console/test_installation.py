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
from tests.support.git import run_git
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

    def test_a_location_is_shared_on_purpose(self) -> None:
        bare = self.service.repositories / "office.git"
        run_git("init", "-q", "--bare", "-b", "main", str(bare), folder=self.service.data)
        with self.service.client() as client:
            client.shelf("fares").make_git_link("office", str(bare))
            client.make_shelf("Harbour", key="harbour")
        self.open()
        self.browser.see("Shelves use 1 location.")
        self.browser.press(f"Share {bare}")
        self.browser.type_into("Key of the shelf", "harbour")
        self.assertEqual(self.browser.axe(), [])
        self.browser.press("Share it")
        self.browser.press(f"Stop sharing {bare} with harbour")
        self.browser.press("Stop sharing")
        with self.service.client() as client:
            self.browser.wait_for(lambda: [one.shared_with for one in client.locations()] == [[]])

    def test_versions_move_to_a_bucket_and_back(self) -> None:
        self.open()
        self.browser.see("Versions live in the data folder of the service")
        self.browser.press("Move versions")
        self.browser.type_into("Bucket and prefix, or a folder of the machine of the service", "s3://nowhere/x")
        self.browser.type_into(
            "Address of the service that has the bucket, if it is one of your own", self.server.endpoint
        )
        self.browser.press("Move")
        self.browser.see("The last move failed.")
        self.browser.see("s3://nowhere/x at http://127.0.0.1")
        self.browser.press("Move versions")
        self.browser.type_into("Bucket and prefix, or a folder of the machine of the service", "s3://versions/console")
        self.browser.type_into(
            "Address of the service that has the bucket, if it is one of your own", self.server.endpoint
        )
        self.assertEqual(self.browser.axe(), [])
        self.browser.press("Move")
        self.browser.see("Versions live in s3://versions/console")
        self.browser.press("Move versions")
        self.browser.press("Back to the data folder")
        self.browser.see("Versions live in the data folder of the service")

    def test_where_a_shelf_lives(self) -> None:
        """The last one here: with several stores the page is another."""
        self.open()
        self.browser.press("Make a store")
        self.browser.type_into("Name", "archive")
        self.browser.type_into("Bucket and prefix, or a folder of the machine of the service", "elsewhere")
        self.browser.press("Make it")
        self.browser.see("is not a place where versions can live")
        self.assertEqual(self.browser.axe(), [])
        disk = str(self.kept.parent / "archive")
        self.browser.type_into("Bucket and prefix, or a folder of the machine of the service", disk)
        self.browser.press("Make it")
        self.browser.see("Versions live in 2 stores.")
        self.browser.wait_for(lambda: self.browser.texts("[aria-label=Stores] tbody td")[6:9] == ["archive", disk, "0"])
        self.assertEqual(self.browser.axe(), [])
        self.browser.open(f"{self.service.address}/s/fares/people")
        self.browser.see("The bytes of this shelf live in the store main")
        self.browser.press("Move them")
        self.browser.choose("Store where its bytes live", "archive")
        self.assertEqual(self.browser.axe(), [])
        self.browser.press("Move them", within="[role=dialog]")
        self.browser.see("The bytes of this shelf live in the store archive")
        self.browser.see("copied when it moved there")
        self.service.run_python(
            "from everyshelf.service.jobs.models import Job\n"
            "Job.objects.filter(kind='move-shelf').update(state='cancelled')"
        )
        self.browser.open(f"{self.service.address}/s/fares/people")
        self.browser.see("The last move was cancelled.")
        self.assertEqual(self.browser.axe(), [])
        self.browser.press("Try again")
        self.browser.see("copied when it moved there")
        self.browser.open(f"{self.service.address}/")
        self.browser.press("Make a shelf")
        self.browser.type_into("Name", "Old fares")
        self.browser.choose("Store where its bytes live", "archive")
        self.browser.press("Make the shelf")
        self.browser.see("Old fares")
        client = self.service.client()
        self.browser.wait_for(lambda: client.shelf("old-fares").info().store == "archive")
        self.open()
        self.browser.wait_for(lambda: self.browser.texts("[aria-label=Stores] tbody td")[8:9] == ["2"])
        for key in ("fares", "old-fares"):
            moving = client.shelf(key).change_store("main").moving
            if moving is not None:
                client.wait(moving)

        def tidied() -> bool:
            client.wait(client.tidy_storage())
            return client.storage().stores[1].at_home + client.storage().stores[1].to_move == 0

        self.browser.wait_for(tidied)
        self.open()
        self.browser.press("Remove archive")
        self.browser.press("Remove it")
        self.browser.see("Versions live in the data folder of the service")

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
