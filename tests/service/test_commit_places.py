"""One commit with everything it is part of, and reports that say who made what differs."""

from __future__ import annotations

import json

from everyshelf.client import ChangeRequest, CommitMessage, ProblemError
from tests.support.factories import ServiceCase, Terminal, commit_files


class CommitPlacesTests(ServiceCase):
    def commit(self, files: dict[str, bytes], summary: str, by: str, branch: str = "main") -> str:
        changes = [ChangeRequest(path, self.shelf.upload(data).id) for path, data in files.items()]
        message = CommitMessage(summary, author=by, tasks=["SK-7"] if summary.startswith("SK-7") else [])
        return self.shelf.commit(branch, self.shelf.branch(branch).head, changes, message).commit

    def setUp(self) -> None:
        super().setUp()
        self.first = self.commit({"f.csv": b"zone,fare\nZ1,4\nZ2,5\n", "n.md": b"# Fares\n"}, "First", "maren")
        self.shelf.make_branch("try", "main")
        self.tried = self.commit({"f.csv": b"zone,fare\nZ1,4\nZ2,7\n"}, "SK-7: dearer", "ines", "try")
        self.noted = self.commit({"n.md": b"# Fares\n\nNew\n"}, "Notes", "tobias")
        merged = self.shelf.merge("try", "main", summary="Both").commit
        assert merged is not None
        self.merged = merged
        self.shelf.make_tag("spring-1")
        self.last = self.commit({"n.md": b"# Fares\n\nNewer\n"}, "Notes again", "tobias")

    def test_lines_tags_and_neighbours(self) -> None:
        found = self.shelf.commit_places(self.tried)
        self.assertEqual(found.branches, ["main", "try"])
        self.assertEqual([(near.summary, near.merged) for near in found.parents], [("First", False)])
        self.assertEqual([(near.summary, near.merged) for near in found.next], [("Both", True)])
        self.assertEqual([(tag.name, tag.later) for tag in found.tags], [("spring-1", 2)])
        self.assertEqual((found.tasks, found.artifacts, found.restored), (["SK-7"], 1, 2))
        self.assertEqual(found.later, 3)
        merge = self.shelf.commit_places(self.merged)
        self.assertEqual(
            [(near.commit, near.merged) for near in merge.parents], [(self.noted, False), (self.tried, True)]
        )
        self.assertEqual(self.shelf.commit_places(self.last).tags, [])
        self.shelf.make_branch("aside", f"commit:{self.first}")
        self.commit({"n.md": b"# Aside\n"}, "Aside", "ines", "aside")
        self.shelf.make_tag("aside-1", "aside")
        self.assertEqual(self.shelf.commit_places(self.last).tags, [], "a later tag of another line")
        with self.assertRaises(ProblemError) as caught:
            self.shelf.commit_places("0" * 64)
        self.assertEqual(caught.exception.status, 404)

    def test_proposals_checks_and_runs(self) -> None:
        self.shelf.make_branch("more", "main")
        proposed = self.commit({"n.md": b"# More\n"}, "More", "ines", "more")
        proposal = self.shelf.open_proposal("More notes", "more")
        self.shelf.record_check("fare rules", passed=True, ref=f"commit:{proposed}", comment="41 of 41")
        found = self.shelf.commit_places(proposed)
        self.assertEqual(
            [(one.number, one.title, one.merged) for one in found.proposals],
            [(proposal["number"], "More notes", False)],
        )
        self.assertEqual(
            [(one.name, one.passed, one.comment) for one in found.checks], [("fare rules", True, "41 of 41")]
        )

    def test_reports_say_who_and_why(self) -> None:
        told = json.loads(self.shelf.compare_report(f"commit:{self.first}", "main", form="json"))
        self.assertEqual([c["summary"] for c in told["commits"]["f.csv"]], ["SK-7: dearer"])
        self.assertEqual([c["author"] for c in told["commits"]["n.md"]], ["tobias", "tobias"])
        markdown = self.shelf.compare_report(f"commit:{self.first}", "main", form="md")
        self.assertIn("SK-7: dearer (`", markdown)
        page = self.shelf.compare_report(f"commit:{self.first}", "main", form="html")
        self.assertIn("“Notes again”", page)
        between = json.loads(self.shelf.compare_report("tag:spring-1", "main", form="json"))
        self.assertEqual({path: len(lines) for path, lines in between["commits"].items()}, {"n.md": 1})

    def test_the_command_line(self) -> None:
        terminal = Terminal(self, self.service)
        terminal.set("EVERYSHELF_SHELF", self.shelf.key)
        said = terminal.run("history", "--commit", self.tried[:10]).stdout
        self.assertIn("“SK-7: dearer”", said)
        self.assertIn("tag:spring-1, 2 commits later", said)
        self.assertRegex(said, r"next +[0-9a-f]{8} +Both, merged")
        self.assertRegex(said, r"alters +f\.csv +v2 +1 cell in fare")
        self.assertIn(
            "goes with no other filter", terminal.run("history", "--commit", self.tried, "--by", "ines", code=2).stderr
        )
        self.assertEqual(
            json.loads(terminal.run("history", "--commit", self.tried, "--json").stdout)["places"]["later"], 3
        )


class ManyTests(ServiceCase):
    def test_a_root_commit(self) -> None:
        made = commit_files(self.shelf, {"a.txt": b"a\n"}, "Only")
        found = self.shelf.commit_places(made.commit)
        self.assertEqual((found.parents, found.next, found.later), ([], [], 0))
