"""``unfold``, ``fold``, ``take --unfold`` and ``--report`` as a person runs them."""

from __future__ import annotations

import json
import shutil

from tests.service.test_seen_and_unfolded import APP
from tests.support.factories import ServiceCase, Terminal


class UnfoldTests(ServiceCase):
    """One file as readable parts, on its own and on a desk."""

    def setUp(self) -> None:
        super().setUp()
        self.terminal = Terminal(self, self.service)

    def take(self) -> None:
        self.put({"apps/gangway.json": APP, "notes.txt": b"x\n"})
        found = self.terminal.json("take", self.shelf.key, "desk", "--unfold")
        self.assertEqual(found["unfolded"], ["apps/gangway.json"])
        self.terminal.folder = self.terminal.home / "desk"
        self.parts = self.terminal.folder / "apps" / "gangway.json.unfolded"

    def states(self) -> dict[str, str]:
        return {a["path"]: a["state"] for a in self.terminal.json("pending")["artifacts"]}

    def edit(self, old: str, new: str, part: str = "screens/Scan.json") -> None:
        file = self.parts / part
        file.write_text(file.read_text().replace(old, new))

    def test_file_to_folder_and_back(self) -> None:
        self.terminal.write("gangway.json", APP)
        said = self.terminal.run("unfold", "gangway.json").stdout
        self.assertIn("screens/Scan.json", said)
        self.assertIn("everyshelf fold gangway.json.unfolded", said)
        (self.terminal.folder / "gangway.json").unlink()
        self.assertTrue(self.terminal.json("fold", "gangway.json.unfolded")["changed"])
        self.assertEqual((self.terminal.folder / "gangway.json").read_bytes(), APP)
        self.assertIn("same as before", self.terminal.run("fold", "gangway.json.unfolded").stdout)
        (self.terminal.folder / "gangway.json.unfolded/screens/Scan.json").unlink()
        self.assertIn("screens/Scan.json is missing", self.terminal.run("fold", "gangway.json.unfolded", code=1).stderr)
        self.assertEqual((self.terminal.folder / "gangway.json").read_bytes(), APP)

    def test_edited_part_on_a_desk_goes_back_into_its_file(self) -> None:
        self.take()
        self.assertEqual(self.states(), {})
        self.edit("Ticket", "Pass")
        self.assertEqual(self.states(), {"apps/gangway.json": "edited"})
        self.assertEqual((self.terminal.folder / "apps/gangway.json").read_bytes(), APP.replace(b"Ticket", b"Pass"))
        self.terminal.run("commit", "--summary", "Pass")
        self.assertEqual(self.shelf.read("apps/gangway.json"), APP.replace(b"Ticket", b"Pass"))
        self.assertEqual([a.path for a in self.shelf.artifacts()], ["apps/gangway.json", "notes.txt"])

    def test_edited_file_unfolds_again_without_stale_parts(self) -> None:
        self.take()
        file = self.terminal.folder / "apps/gangway.json"
        file.write_bytes(APP.replace(b'"Result"', b'"Verdict"'))
        self.assertEqual(self.states(), {"apps/gangway.json": "edited"})
        self.assertEqual(sorted(p.name for p in (self.parts / "screens").iterdir()), ["Scan.json", "Verdict.json"])
        self.terminal.run("discard", "--all")
        self.assertEqual(self.states(), {})
        self.assertEqual(sorted(p.name for p in (self.parts / "screens").iterdir()), ["Result.json", "Scan.json"])

    def test_both_edited_or_broken_is_told_and_nothing_lost(self) -> None:
        self.take()
        self.edit("Ticket", "Pass")
        file = self.terminal.folder / "apps/gangway.json"
        file.write_bytes(APP.replace(b"Ticket", b"Card"))
        found = self.terminal.json("pending")["artifacts"][0]
        self.assertEqual(found["state"], "blocked")
        self.assertIn("both edited", json.dumps(found))
        self.assertIn(b"Card", file.read_bytes())
        shutil.rmtree(self.parts)
        self.assertEqual(self.states(), {"apps/gangway.json": "edited"})

    def test_part_that_breaks_the_file_is_told(self) -> None:
        self.take()
        (self.parts / "screens/Scan.json").write_text("{")
        found = self.terminal.json("pending")["artifacts"][0]
        self.assertEqual(found["state"], "blocked")
        self.assertIn("cannot be read", json.dumps(found))
        self.assertEqual((self.terminal.folder / "apps/gangway.json").read_bytes(), APP)

    def test_newer_version_brings_newer_parts_and_removal_takes_them(self) -> None:
        self.take()
        self.put({"apps/gangway.json": APP.replace(b"Ticket", b"Pass")})
        self.terminal.run("take")
        self.assertIn("Pass", (self.parts / "screens/Scan.json").read_text())
        self.put({"apps/gangway.json": None})
        self.terminal.run("take")
        self.assertFalse(self.parts.exists())


class ReportTests(ServiceCase):
    """``--report FILE``."""

    def test_of_a_shelf_a_desk_and_two_files(self) -> None:
        terminal = Terminal(self, self.service)
        self.put({"a.json": b'{"limit": 1}'})
        self.shelf.make_tag("one")
        self.put({"a.json": b'{"limit": 2}'})
        terminal.run("take", self.shelf.key, "desk")
        terminal.folder = terminal.home / "desk"
        terminal.run("compare", "tag:one", "main", "--report", "../shelf.html")
        terminal.run("compare", "tag:one", "main", "a.json", "--report", "../one.md")
        terminal.write("a.json", b'{"limit": 3}')
        terminal.run("compare", "--report", "../desk.json")
        terminal.write("old.json", b'{"limit": 1}')
        terminal.run("compare-files", "old.json", "a.json", "--report", "../files.html")
        pages = {p.name: p.read_text() for p in terminal.home.glob("*.*") if p.is_file()}
        self.assertIn("<h2>a.json</h2>", pages["shelf.html"])
        self.assertIn("`a.json`", pages["one.md"])
        self.assertEqual(json.loads(pages["desk.json"])["artifacts"][0]["findings"][0]["after"], 3)
        self.assertIn("old.json to a.json", pages["files.html"])
        failed = terminal.run("compare", "--report", "x.pdf", code=1).stderr
        self.assertIn(".html, .md or .json", failed)
