"""The Git page."""

from __future__ import annotations

import tempfile
from pathlib import Path

from selenium.webdriver.support.ui import Select

from tests.console.test_console import ConsoleCase
from tests.console.test_together import TwoBrowsersCase
from tests.support.git import GitServer, run_git
from tests.support.waiting import until


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
        self.browser.press("Copy address", "[aria-label='Clone address']")
        self.browser.wait_for(lambda: "Copied" in self.browser.text())
        self.assertEqual(self.browser.axe(), [])
        self.browser.press("Make a token")
        self.browser.see("can act for you")


class CopyingTests(ConsoleCase):
    """Copying where the page has no clipboard, as over http, and where nothing can be copied at all."""

    def copied(self, script: str) -> str:
        self.browser.open(f"{self.service.address}/s/{self.shelf.key}/git")
        self.browser.see("Copy address")
        self.browser.driver.execute_script(script)
        self.browser.press("Copy address", "[aria-label='Clone address']")
        place = ("css selector", "[aria-label='Clone address'] button")
        self.browser.wait_for(lambda: self.browser.driver.find_element(*place).text != "Copy address")
        return str(self.browser.driver.find_element(*place).text)

    def test_the_older_way_follows_and_what_fails_is_said(self) -> None:
        self.put({"fares.csv": b"zone,fare\nZ1,4\n"}, "Made here")
        without = "Object.defineProperty(navigator, 'clipboard', {value: undefined});"
        seen = "document.addEventListener('copy', () => { window.seen = document.activeElement.value; });"
        self.assertEqual(self.copied(without + seen), "Copied")
        address = f"@{self.service.address.partition('//')[2]}/git/{self.shelf.key}.git"
        self.assertIn(address, self.browser.driver.execute_script("return window.seen"))
        refused = "document.execCommand = () => false;"
        self.assertEqual(self.copied(without + refused), "Not copied: select it")


class LinksTests(TwoBrowsersCase):
    """A link made in three steps, and what it says of both sides."""

    def test_made_tried_followed_and_settled(self) -> None:
        self.put({"fares.csv": b"zone,fare\nZ1,4\n"}, "Made here")
        bare = Path(tempfile.mkdtemp(prefix="console-", dir=self.service.repositories))
        self.browser.open(f"{self.service.address}/s/{self.shelf.key}/git")
        self.browser.press("Make a link")
        self.browser.field("Name").send_keys("office")
        self.browser.field("Address of the repository").send_keys(str(bare))
        self.browser.press("Try it")
        self.browser.see("is not a repository")
        self.assertEqual(self.shelf.git_links(), [])
        run_git("init", "-q", "--bare", "-b", "main", str(bare), folder=bare)
        self.browser.press("Try it")
        self.browser.see("can be reached and written to")
        self.browser.press("Look at what it would do")
        self.browser.see("1 commit")
        self.assertEqual(self.browser.axe(), [])
        self.browser.press("Follow")
        self.browser.see("1 link: nothing needs you.")
        self.browser.see("in step")
        with tempfile.TemporaryDirectory(prefix="es-clone-") as home:
            folder = Path(home, "clone")
            run_git("clone", "-q", str(bare), str(folder), folder=Path(home))
            self.shelf.change_git_link("office", follows=False)
            (folder / "fares.csv").write_bytes(b"zone,fare\nZ1,5\n")
            run_git("commit", "-q", "-a", "-m", "In Git", folder=folder)
            run_git("push", "-q", folder=folder)
        self.put({"fares.csv": b"zone,fare\nZ1,6\n"}, "Here")
        self.browser.open(f"{self.service.address}/s/{self.shelf.key}/git")
        self.browser.press("Fetch office")
        self.browser.see("office has diverged, with something to settle")
        marks = self.browser.driver.find_elements("css selector", "table.links svg[role=img]")
        self.assertEqual(marks[0].get_attribute("aria-label"), "1 commit only on the shelf, 1 commit only in Git")
        self.assertEqual(self.browser.axe(), [])
        self.browser.press("Settle")
        self.browser.see("git/office/main")

    def test_one_folder_with_the_parts_of_its_files(self) -> None:
        book = (
            b'{"cells": [{"cell_type": "code", "metadata": {}, "outputs": [], "source": ["a = 1\\n"]}], "nbformat": 4}'
        )
        self.put({"data/look.ipynb": book, "notes.md": b"# Notes\n"}, "Made here")
        bare = Path(tempfile.mkdtemp(prefix="console-", dir=self.service.repositories))
        run_git("init", "-q", "--bare", "-b", "main", str(bare), folder=bare)
        self.browser.open(f"{self.service.address}/s/{self.shelf.key}/git")
        self.browser.press("Make a link")
        self.browser.field("Name").send_keys("port")
        self.browser.field("Address of the repository").send_keys(str(bare))
        self.browser.field("Only this folder or artifact (empty: the whole shelf)").send_keys("data")
        self.browser.field("Where it is in the repository (empty: a folder is its root)").send_keys("from/shelf")
        self.browser.press("Try it")
        self.browser.see("can be reached and written to")
        Select(self.browser.field("Where parts of notebooks, apps, tests and archives lie there")).select_by_value(
            "instead"
        )
        self.browser.press("Look at what it would do")
        self.browser.see("Would send")
        self.assertEqual(self.browser.axe(), [])
        self.browser.press("Follow")
        self.browser.see("only data, in from/shelf there, parts instead of files")
        self.browser.see("in step")
        self.assertIn("from/shelf/look.ipynb.unfolded/cells/001.py", GitServer.files(bare))
        self.browser.press("Show port")
        self.browser.press("Change the link")
        self.browser.field("Address of the repository").send_keys("-gone")
        self.browser.press("Change it and try it")
        self.browser.see("is not a repository")
        address = self.browser.field("Address of the repository")
        self.browser.empty(address)
        address.send_keys("ssh://git@office.example/fares.git")
        self.browser.see("Private key for SSH")
        self.assertEqual(self.browser.axe(), [])
        self.browser.empty(address)
        address.send_keys(str(bare))
        self.browser.press("Change it and try it")
        self.browser.see("in step")
        self.browser.press("Let the other side call")
        self.browser.see("Secret, shown once")
        self.browser.see(f"{self.service.address}/api/v1/shelves/{self.shelf.key}/git/links/port/called")
        Select(self.browser.find("table.links select")).select_by_value("beside")
        self.browser.see("parts beside files")
        self.assertEqual(self.browser.axe(), [])
        until(lambda: "from/shelf/look.ipynb" in GitServer.files(bare), "the file beside its parts")
