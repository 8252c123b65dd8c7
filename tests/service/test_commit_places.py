"""One commit with everything it is part of, and reports that say who made what differs."""

from __future__ import annotations

import json

from everyshelf.client import ChangeRequest, CommitMessage, ProblemError
from tests.support.factories import ServiceCase, Terminal, commit_files
from tests.support.waiting import until


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
        until(lambda: self.shelf.history("f.csv", ref="try")[0].headline, "the commit was not described")
        said = terminal.run("history", "--commit", self.tried[:10]).stdout
        self.assertIn("“SK-7: dearer”", said)
        self.assertIn("tag:spring-1, 2 commits later", said)
        self.assertRegex(said, r"next +[0-9a-f]{8} +Both, merged")
        self.assertRegex(said, r"alters +f\.csv +v2 +1 cell in fare")
        self.assertIn(
            "go with no other option", terminal.run("history", "--commit", self.tried, "--by", "ines", code=2).stderr
        )
        self.assertEqual(
            json.loads(terminal.run("history", "--commit", self.tried, "--json").stdout)["places"]["later"], 3
        )


class VersionPlacesTests(ServiceCase):
    """Versions of one artifact on two branches, merged, tagged and put into an environment."""

    def setUp(self) -> None:
        super().setUp()
        self.put({"f.csv": b"zone,fare\nZ1,4\nZ2,5\n"}, "First")
        self.shelf.make_branch("try", "main")
        self.put({"f.csv": b"zone,fare\nZ1,4\nZ2,7\n"}, "SK-7: dearer", "try")
        self.put({"f.csv": b"zone,fare\nZ1,3\nZ2,5\n"}, "Cheaper")
        self.shelf.make_tag("spring-1")
        self.merged = self.shelf.merge("try", "main", summary="Both").commit
        moved = ChangeRequest("fares/f.csv", self.shelf.artifact("f.csv").content, "f.csv")
        self.shelf.commit("main", self.shelf.branch("main").head, [moved], "Moved")

    def test_what_has_it_and_what_it_was_made_of(self) -> None:
        where = self.shelf.make_environment("test").name
        self.shelf.wait(self.shelf.promote("spring-1", where))
        third = self.shelf.version_places("fares/f.csv", version=3)
        self.assertEqual((third.version, third.versions, third.path, third.summary), (3, 5, "f.csv", "Cheaper"))
        self.assertEqual([(n.version, n.merged) for n in third.before], [(1, False)])
        self.assertEqual([(n.version, n.merged) for n in third.next], [(4, False)])
        self.assertEqual((third.branches, third.tags), ([], ["spring-1"]))
        self.assertEqual([(e.environment, e.version, e.this) for e in third.environments], [("test", 3, True)])
        fourth = self.shelf.version_places("fares/f.csv", version=4)
        self.assertEqual([(n.version, n.merged) for n in fourth.before], [(3, False), (2, True)])
        self.assertEqual((fourth.made_by.commit, fourth.branches), (self.merged, []))
        self.assertEqual([(e.version, e.this) for e in fourth.environments], [(3, False)])
        second = self.shelf.version_places("fares/f.csv", version=2)
        self.assertEqual((second.branches, second.made_by.branches), (["try"], ["main", "try"]))
        self.assertEqual([(n.version, n.merged) for n in second.next], [(4, True)])
        newest = self.shelf.version_places("fares/f.csv")
        self.assertEqual((newest.version, newest.moved_from, newest.branches), (5, "f.csv", ["main"]))
        self.assertEqual(newest.content, fourth.content, "the same content is told apart by where it is")
        with self.assertRaises(ProblemError) as caught:
            self.shelf.version_places("fares/f.csv", version=9)
        self.assertEqual((caught.exception.status, caught.exception.code), (404, "version.missing"))

    def test_the_command_line(self) -> None:
        terminal = Terminal(self, self.service)
        terminal.set("EVERYSHELF_SHELF", self.shelf.key)
        said = terminal.run("history", "fares/f.csv", "--version", "4").stdout
        self.assertIn("version 4 of 5: “Both”", said)
        self.assertRegex(said, r"made of +v3 +Cheaper")
        self.assertRegex(said, r"made of +v2 +SK-7: dearer, .*, merged")
        self.assertIn("Name the artifact", terminal.run("history", "--version", "4", code=2).stderr)


class ReportTests(ServiceCase):
    """A history and a promotion as files to keep."""

    def test_a_history(self) -> None:
        self.put({"f.csv": b"zone,fare\nZ1,4\n"}, "First")
        self.put({"f.csv": b"zone,fare\nZ1,5\n", "n.md": b"# Why\n"}, "Dearer <b>than</b> | before")
        self.put({"n.md": b"# Why\n\nFuel\n"}, "Notes")
        told = json.loads(self.shelf.history_report(form="json"))
        self.assertEqual([c["summary"] for c in told["commits"]], ["Notes", "Dearer <b>than</b> | before", "First"])
        self.assertEqual((told["total"], told["sentence"]), (3, "3 commits by owner, 2 artifacts touched."))
        some = json.loads(self.shelf.history_report(form="json", path="f.csv", order="oldest"))
        self.assertEqual([c["summary"][:6] for c in some["commits"]], ["First", "Dearer"])
        self.assertEqual(some["sought"], ["touching f.csv"])
        self.assertIn("Dearer &lt;b&gt;than&lt;/b&gt; | before", self.shelf.history_report())
        self.assertIn("### Dearer &lt;b&gt;than&lt;/b&gt; \\| before", self.shelf.history_report(form="md"))
        with self.assertRaises(ProblemError) as caught:
            self.shelf.history_report(form="pdf")
        self.assertEqual(caught.exception.code, "report.form")
        terminal = Terminal(self, self.service)
        terminal.set("EVERYSHELF_SHELF", self.shelf.key)
        terminal.run("history", "--report", "h.md", "--words", "Notes")
        self.assertIn("**1 commit by owner", (terminal.folder / "h.md").read_text())

    def test_a_promotion(self) -> None:
        self.put({"f.csv": b"zone,fare\nZ1,4\n", "n.md": b"# One\n"}, "First")
        self.shelf.make_tag("spring-1")
        self.shelf.make_environment("test", left_out={"patterns": ["n.md"]})
        self.shelf.wait(self.shelf.promote("spring-1", "test"))
        self.put({"f.csv": b"zone,fare\nZ1,5\n", "n.md": b"# Two\n", "g.csv": b"a\n1\n"}, "Dearer")
        self.shelf.make_tag("spring-2")
        self.shelf.record_check("fare rules", passed=True, ref="tag:spring-2", comment="41 of 41")
        self.shelf.review("spring-2", "test", agrees=True, comment="for Easter")
        self.shelf.wait(self.shelf.promote("spring-2", "test", reason="Easter"))
        self.shelf.record_check("late", passed=False, ref="tag:spring-2")
        told = json.loads(self.shelf.deployment_report("test", 2, "json"))
        self.assertEqual(told["report"], "promotion")
        self.assertRegex(told["sentence"], r"owner put tag:spring-2 in place on .*: 1 added, 1 changed; read back")
        self.assertEqual({a["path"]: a["state"] for a in told["artifacts"]}, {"f.csv": "edited", "g.csv": "new"})
        self.assertEqual([c["summary"] for c in told["commits"]["f.csv"]], ["Dearer"])
        said = {name: (met, words) for met, name, words in told["conditions"]}
        self.assertEqual(said["reason"], (True, "Easter"))
        self.assertEqual(said["check fare rules"], (True, "41 of 41"))
        self.assertEqual(said["review of owner"], (True, "for Easter"))
        self.assertNotIn("check late", said, "what came after it did not hold it")
        first = json.loads(self.shelf.deployment_report("test", 1, "json"))
        self.assertEqual({a["path"]: a["state"] for a in first["artifacts"]}, {"f.csv": "new"})
        self.shelf.wait(self.shelf.roll_back("test"))
        self.assertIn("went back to deployment 1", self.shelf.deployment_report("test", 3, "md"))
        with self.assertRaises(ProblemError) as caught:
            self.shelf.deployment_report("test", 9)
        self.assertEqual((caught.exception.status, caught.exception.code), (404, "deployment.missing"))
        terminal = Terminal(self, self.service)
        terminal.set("EVERYSHELF_SHELF", self.shelf.key)
        told = terminal.json("env", "show", "test", "--report", "d.html", "--deployment", "2")
        self.assertEqual(told["file"], "d.html")
        self.assertIn("fare rules", (terminal.folder / "d.html").read_text())


class ManyTests(ServiceCase):
    def test_a_root_commit(self) -> None:
        made = commit_files(self.shelf, {"a.txt": b"a\n"}, "Only")
        found = self.shelf.commit_places(made.commit)
        self.assertEqual((found.parents, found.next, found.later), ([], [], 0))
