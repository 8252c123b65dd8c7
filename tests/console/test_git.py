"""The Git page."""

from __future__ import annotations

import tempfile
from pathlib import Path

from tests.console.test_together import TwoBrowsersCase
from tests.support.git import run_git


class GitPageTests(TwoBrowsersCase):
    """Where Git finds the shelf, and what came from there."""

    def test_the_address_and_what_was_pushed(self) -> None:
        self.put({"fares.csv": b"zone,fare\nZ1,4\n"}, "Made here")
        signed = self.service.address.replace("//", f"//owner:{self.service.token()}@")
        with tempfile.TemporaryDirectory(prefix="es-clone-") as home:
            folder = Path(home, "clone")
            run_git("clone", "-q", f"{signed}/git/{self.shelf.key}.git", str(folder), folder=Path(home))
            (folder / "fares.csv").write_bytes(b"zone,fare\nZ1,5\n")
            run_git("commit", "-q", "-a", "-m", "Made with Git", folder=folder)
            run_git("push", "-q", folder=folder)
            git = run_git("rev-parse", "HEAD", folder=folder).stdout
        self.browser.open(f"{self.service.address}/s/{self.shelf.key}/git")
        self.browser.see(f"@{self.service.address.partition('//')[2]}/git/{self.shelf.key}.git")
        self.browser.see(git[:8])
        rows = [row.text.split("\n") for row in self.browser.driver.find_elements("css selector", "tbody tr")]
        text = " ".join(rows[0])
        for words in ("Git", "Made with Git", "Kept for Git: author with address and time zone", "Purser"):
            self.assertIn(words, text)
        self.assertIn("Every Shelf", " ".join(rows[1]))
        self.browser.press("Copy address")
        self.assertEqual(self.browser.axe(), [])
        self.browser.press("Make a token")
        self.browser.see("can act for you")
