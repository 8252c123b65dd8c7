"""Branches, drafts and desks are compared from where they parted: what others did meanwhile is not theirs."""

from __future__ import annotations

from typing import Any

from everyshelf.client import Saving
from everyshelf.core.answers.states import Parted, StateComparison
from tests.support.factories import ServiceCase, Terminal, commit_files

FLOW = b'{"steps": [{"id": "scan", "timeout": 30}, {"id": "load", "needs": ["scan"]}]}'


class PartingTests(ServiceCase):
    """A branch, a draft, and a main branch that went on."""

    def setUp(self) -> None:
        super().setUp()
        self.put({f"old/{n}.json": b'{"n": %d}' % n for n in range(5)} | {"flow.json": FLOW}, "Base")
        self.base = self.shelf.branch("main").head
        self.shelf.make_branch("try")
        commit_files(self.shelf, {"flow.json": FLOW.replace(b"30", b"45")}, "Slower scan", "try")
        self.put({f"old/{n}.json": None for n in range(3)} | {"new.json": b"{}"}, "Others' work")

    def states(self, found: StateComparison) -> dict[str, str]:
        return {a.path: a.state for a in found.artifacts}

    def test_a_branch_shows_its_own_changes(self) -> None:
        found = self.shelf.compare("main", "try")
        self.assertEqual(self.states(found), {"flow.json": "edited"})
        head = self.shelf.branch("main").head
        self.assertEqual(found.parted, Parted(ref="main", head=head, commit=self.base, newer=1))
        self.assertIn("main has 1 newer commit, left out here.", found.sentence)

    def test_the_other_way_shows_the_others_work(self) -> None:
        found = self.shelf.compare("try", "main")
        self.assertEqual(set(self.states(found).values()), {"gone", "new"})
        self.assertEqual(found.parted.newer, 1)

    def test_a_branch_without_work_of_its_own_changed_nothing(self) -> None:
        self.shelf.make_branch("still", f"commit:{self.base}")
        found = self.shelf.compare("main", "still")
        self.assertEqual(self.states(found), {})
        self.assertEqual(found.parted.newer, 1)

    def test_a_commit_and_a_tag_are_the_state_that_they_name(self) -> None:
        head = self.shelf.branch("main").head
        self.shelf.make_tag("now", "main")
        for ref in (f"commit:{head}", "tag:now"):
            found = self.shelf.compare(ref, "try")
            self.assertEqual(len(self.states(found)), 5, ref)
            self.assertIsNone(found.parted)

    def test_a_branch_that_grew_from_the_other_has_no_parting(self) -> None:
        self.shelf.make_branch("next", "main")
        commit_files(self.shelf, {"new.json": b'{"n": 1}'}, "More", "next")
        found = self.shelf.compare("main", "next")
        self.assertEqual((self.states(found), found.parted), ({"new.json": "edited"}, None))

    def test_a_draft_shows_what_is_pending_in_it(self) -> None:
        mine = self.client_of("author")
        self.shelf_of(mine).save(
            "try",
            [Saving("flow.json", self.shelf.upload(FLOW.replace(b"30", b"60")).id)],
            self.shelf.branch("try").head,
        )
        found = self.shelf_of(mine).compare("main", "draft:try")
        self.assertEqual(self.states(found), {"flow.json": "edited"})
        self.assertEqual(found.artifacts[0].findings[0].after, 60)

    def shelf_of(self, client: Any) -> Any:
        self.shelf.set_member("author", "author")
        return client.shelf(self.shelf.key)

    def test_one_artifact_its_drawing_and_its_report_agree(self) -> None:
        commit_files(self.shelf, {"flow.json": FLOW.replace(b"load", b"board")}, "Renamed on main", "main")
        found = self.shelf.compare_artifact("flow.json", "main", "try")
        self.assertEqual([(f.field, f.before, f.after) for f in found.findings], [("timeout", 30, 45)])
        drawing = self.shelf.compare_drawing("flow.json", "main", "try")
        self.assertEqual(sorted(n.state for n in drawing.nodes), ["changed", "same"])
        self.assertNotIn("board", self.shelf.compare_report("main", "try", path="flow.json", form="md"))
        self.assertNotIn("new.json", self.shelf.compare_report("main", "try", form="md"))

    def test_on_the_command_line_and_on_a_desk(self) -> None:
        terminal = Terminal(self, self.service)
        terminal.run("take", self.shelf.key, "desk", "--branch", "try")
        terminal.folder = terminal.home / "desk"
        said = terminal.run("compare", "main", "try").stdout
        self.assertIn("main has 1 newer commit, left out here.", said)
        head = self.shelf.branch("main").head
        self.assertIn(f"everyshelf compare commit:{str(head)[:12]} try", said)
        terminal.write("mine.json", b"{}")
        found = terminal.json("compare", "main", "desk")
        told = {a["path"]: a["state"] for a in found["artifacts"]}
        self.assertEqual(told, {"flow.json": "edited", "mine.json": "new"})
        self.assertEqual(found["parted"]["commit"], self.base)
