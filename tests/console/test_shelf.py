"""The list of a shelf: folders as a tree, what narrows it, and artifacts as they read."""

from __future__ import annotations

import json
from typing import Any

from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from everyshelf.client import ChangeRequest, CommitMessage, Saving
from tests.console.test_console import ConsoleCase
from tests.console.test_together import TwoBrowsersCase

_HOSTILE = """<table><tr><td onclick="window.hurt = 1">42</td></tr></table><script>window.hurt = 1</script>
<img src=x onerror="window.hurt = 1"><a href="javascript:window.hurt = 1">here</a><style>body{display:none}</style>"""


class FolderTests(ConsoleCase):
    """Which artifacts are listed."""

    def names(self) -> list[str]:
        return self.browser.texts("table a.row")

    def test_by_folder_label_time_and_own_draft(self) -> None:
        files = {f"data/{place}/fares.csv": f"id\n{place}\n".encode() for place in ("north", "south")}
        files["data/tides.csv"] = b"id\n1\n"
        self.put({**files, "notes.md": b"# Notes\n"})
        content = self.shelf.upload(b"# More notes\n").id
        message = CommitMessage("Checked", labels={"checked": "yes"})
        made = self.shelf.commit("main", self.shelf.branch("main").head, [ChangeRequest("notes.md", content)], message)
        self.shelf.save("main", [Saving("data/tides.csv", self.shelf.upload(b"id\n2\n").id)], made.commit)
        self.page()
        self.browser.see("4 artifacts")
        self.assertEqual(sorted(self.names())[0], "data/north/fares.csv", "files of one name are told apart")
        # By keys alone: the tree is one stop, right opens a folder, Enter shows it.
        tree = self.browser.find("[role=tree] [tabindex='0']")
        tree.send_keys(Keys.ARROW_DOWN)
        self.browser.press_key(Keys.ARROW_RIGHT)
        self.browser.press_key(Keys.ARROW_DOWN)
        self.browser.press_key(Keys.ENTER)
        self.browser.wait_for(lambda: self.names() == ["fares.csv"])
        self.assertIn("folder=data%2Fnorth", self.browser.driver.current_url)
        self.browser.press("data", within="nav[aria-label=Folder]")
        self.browser.wait_for(lambda: sorted(self.names()) == ["north/fares.csv", "south/fares.csv", "tides.csv"])
        self.browser.press("All folders", within="nav[aria-label=Folder]")
        self.browser.see("4 artifacts")
        self.browser.choose("State", "edited by you")
        self.browser.wait_for(lambda: self.names() == ["data/tides.csv"])
        self.browser.see("edited")
        self.browser.choose("State", "any")
        self.browser.choose("Label", "checked=yes")
        self.browser.wait_for(lambda: self.names() == ["notes.md"])
        self.browser.choose("Label", "any")
        self.browser.choose("Changed", "today")
        self.browser.see("4 artifacts")
        self.assertEqual(self.browser.axe(), [])


class ReadingTests(ConsoleCase):
    """Notebooks and Markdown as they read; nothing of a file runs."""

    def output(self, data: dict[str, Any]) -> dict[str, Any]:
        return {"output_type": "display_data", "metadata": {}, "data": data}

    def test_a_notebook_as_cells_with_outputs(self) -> None:
        picture = "iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg=="
        error = {
            "output_type": "error",
            "ename": "KeyError",
            "evalue": "'fare'",
            "traceback": ["\x1b[31mKeyError\x1b[0m"],
        }
        code = {"cell_type": "code", "metadata": {}, "execution_count": 2, "source": "fares = {'a': 1}\nfares"}
        outputs = [self.output({"text/html": _HOSTILE}), self.output({"image/png": picture}), error]
        cells = [
            {"cell_type": "markdown", "metadata": {}, "source": f"# Fares\n\nAll **prices**.\n\n{_HOSTILE}"},
            {**code, "outputs": outputs},
            {**code, "execution_count": 1, "outputs": []},
        ]
        self.put(
            {"fares.ipynb": json.dumps({"cells": cells, "metadata": {}, "nbformat": 4, "nbformat_minor": 5}).encode()}
        )
        self.page("/artifact?path=fares.ipynb")
        self.browser.see("3 cells, 2 of python, not run from top to bottom")
        self.assertEqual(self.browser.texts(".marked h3"), ["Fares"])
        self.browser.wait_for(
            lambda: "fares" in self.browser.texts(".setcode")[0] and self.browser.texts(".setcode .tok-string")
        )
        self.assertIn("42", self.browser.texts("[aria-label='Output 1 of cell 2']")[0])
        self.assertTrue(self.browser.driver.find_elements(By.CSS_SELECTOR, "img[alt='Output 2 of cell 2']"))
        self.assertEqual(self.browser.texts("[aria-label='Output 3 of cell 2, an error']"), ["KeyError"])
        for link in self.browser.driver.find_elements(By.LINK_TEXT, "here"):
            link.click()
        hurt = (
            "return [window.hurt ?? null, document.querySelectorAll('main script, main style, main [onclick]').length]"
        )
        self.assertEqual(self.browser.driver.execute_script(hurt), [None, 0])
        self.assertEqual(self.browser.axe(), [])
        refused = [said for said in self.browser.complaints() if "inline event handler violates" not in said]
        self.assertEqual(refused, [], "what is left of the file asks for nothing")

    def test_markdown_as_it_reads_and_a_torn_notebook_as_what_it_is(self) -> None:
        self.put({"plan.md": f"# Plan\n\n- [x] boats\n\n{_HOSTILE}\n".encode(), "torn.ipynb": b'{"cells": 3'})
        self.page("/artifact?path=plan.md")
        self.browser.wait_for(lambda: self.browser.texts(".marked h3") == ["Plan"])
        hurt = "return [window.hurt ?? null, document.querySelectorAll('.marked script, .marked style, .marked img').length]"
        self.assertEqual(self.browser.driver.execute_script(hurt), [None, 0])
        self.assertEqual(self.browser.axe(), [])
        self.browser.press("Raw text")
        self.browser.wait_for(lambda: "- [x] boats" in self.browser.text())
        self.page("/artifact?path=torn.ipynb")
        self.browser.see("torn.ipynb")
        self.browser.wait_for(
            lambda: "cannot be shown as cells" in self.browser.text() or "No outline" in self.browser.text()
        )


class FirstStepsTests(TwoBrowsersCase):
    """Who opens a shelf for the first time is led to what their role can do, once."""

    def test_by_role_until_read_or_closed(self) -> None:
        self.put({"notes.md": b"# Notes\n"})
        self.browser.open(f"{self.service.address}/s/{self.shelf.key}")
        self.browser.press("First steps as an owner")
        self.browser.see("Invite people")
        self.assertEqual(self.browser.axe(), [])
        self.browser.press("Add files")
        self.browser.see("notes.md")
        self.assertNotIn("New here?", self.browser.text())
        self.other.open(f"{self.service.address}/s/{self.shelf.key}")
        self.other.see("First steps as a keeper")
        self.other.press("Close", within=".newhere")
        self.other.open(f"{self.service.address}/s/{self.shelf.key}")
        self.other.see("notes.md")
        self.assertNotIn("New here?", self.other.text())
        self.shelf.set_member("keeper", "reader")
        self.other.open(f"{self.service.address}/s/{self.shelf.key}")
        self.other.press("First steps as a reader")
        self.other.see("Say what you think")
        self.assertNotIn("Bring in files", self.other.text())
