"""``draft``: what is pending, kept on the server, from a desk and without one."""

from __future__ import annotations

from tests.cli.test_merging import TerminalCase
from tests.service.test_merging import flow


class DraftTests(TerminalCase):
    """Saved on a desk, looked at, brought back, committed."""

    def desk(self) -> None:
        self.put({"flow.json": flow(), "b.txt": b"1\n"})
        self.terminal.run("take", self.shelf.key, "desk")
        self.terminal.folder = self.terminal.folder / "desk"

    def test_a_desks_edits_are_saved_and_a_selection_committed(self) -> None:
        self.desk()
        self.terminal.write("flow.json", flow(weigh_timeout=45))
        self.terminal.write("c.txt", b"c\n")
        self.assertIn("2 pending in your draft on main", self.terminal.run("draft", "save").stdout)
        self.terminal.write("flow.json", flow(weigh_timeout=46))
        self.terminal.run("draft", "save", "flow.json")
        newest, first = (p["point"] for p in self.terminal.json("draft", "points", "flow.json")["points"])
        self.assertEqual(newest, 3)
        self.terminal.run("draft", "bring-back", str(first))
        done = self.terminal.run("draft", "commit", "flow.json", "--summary", "Weigh longer").stdout
        self.assertIn("Committed to main", done)
        self.assertEqual(self.shelf.read("flow.json"), flow(weigh_timeout=45))
        found = self.terminal.json("draft", "list")["drafts"]
        self.assertEqual([(e["path"], e["state"]) for e in found[0]["entries"]], [("c.txt", "new")])
        self.assertIn("in ", self.terminal.run("draft", "points").stdout)
        self.assertIn("Nothing is pending on main", self.terminal.run("draft", "discard", "--all").stdout)
        self.assertIn("You have nothing pending", self.terminal.run("draft", "list").stdout)

    def test_wrong_use_is_told(self) -> None:
        self.desk()
        self.assertIn("say --all", self.terminal.run("draft", "discard", code=2).stderr)
        self.assertIn("you have no draft", self.terminal.run("draft", "points", code=1).stderr.lower())
        self.terminal.write("b.txt", b"2\n")
        self.terminal.run("draft", "save")
        self.assertIn("not pending", self.terminal.run("draft", "discard", "none.txt", code=1).stderr)
