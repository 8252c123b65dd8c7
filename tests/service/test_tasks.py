"""Tasks: found in what people write, wherever it was recorded, and followed to where they run."""

from __future__ import annotations

import shutil
import tempfile
from pathlib import Path

from everyshelf.client import ChangeRequest, CommitMessage, ProblemError
from tests.support.factories import ServiceCase, Terminal
from tests.support.git import run_git


class TaskTests(ServiceCase):
    """The page of a task, and the list."""

    def setUp(self) -> None:
        super().setUp()
        self.put({"fares.csv": b"zone,fare\nZ1,4\n", "a.txt": b"a"}, "SK-1: first fares")
        self.put({"fares.csv": b"zone,fare\nZ1,5\n"}, "Dearer (SK-1, SK-22)")

    def say(self, message: CommitMessage) -> None:
        change = ChangeRequest("a.txt", self.shelf.upload(message.summary.encode()).id)
        self.shelf.commit("main", self.shelf.branch("main").head, [change], message)

    def names(self) -> list[tuple[str, int]]:
        return [(row.task, row.commits) for row in self.shelf.tasks().items]

    def test_found_by_the_pattern_and_where_they_are_named(self) -> None:
        self.assertEqual(self.names(), [])
        changed = self.shelf.change_tasks(pattern="SK-[0-9]+", address="https://tasks.skerry.example/{task}?x=1")
        self.assertEqual([(row.task, row.commits) for row in changed.items], [("SK-1", 2), ("SK-22", 1)])
        self.assertEqual(changed.items[0].address, "https://tasks.skerry.example/SK-1?x=1")
        message = CommitMessage("More", "For SK-3 and SK-3, not ASK-4 or SK-5b", tasks=["odd id/7"])
        self.say(message)
        self.assertEqual(self.names(), [("SK-3", 1), ("odd id/7", 1), ("SK-1", 2), ("SK-22", 1)])
        self.assertEqual(self.shelf.task("odd id/7").total, 1)
        self.shelf.change_tasks(pattern="")
        self.assertEqual(self.names(), [("odd id/7", 1)])

    def test_one_task_from_commit_to_production(self) -> None:
        self.shelf.change_tasks(pattern="SK-[0-9]+")
        self.shelf.make_tag("one", note="for SK-1")
        self.shelf.make_environment("test")
        self.shelf.make_environment("production")
        self.shelf.wait(self.shelf.promote("one", "test"))
        self.shelf.make_branch("later")
        self.put({"a.txt": b"b"}, "SK-1 again", "later")
        self.put({"a.txt": None}, "Not for any", "later")
        self.shelf.open_proposal("Later", "later", description="Part of SK-1")
        found = self.shelf.task("SK-1")
        self.assertEqual(
            [c.summary for c in found.commits], ["SK-1 again", "Dearer (SK-1, SK-22)", "SK-1: first fares"]
        )
        reached = {place.place: (place.commits, place.of, place.tag) for place in found.reached}
        self.assertEqual(reached, {"main": (2, 3, ""), "test": (2, 3, "one"), "production": (0, 3, "")})
        self.assertEqual(
            [(a.path, a.versions, a.version) for a in found.artifacts], [("a.txt", 2, 2), ("fares.csv", 2, 2)]
        )
        self.assertEqual([(p.number, p.state) for p in found.proposals], [(1, "open")])
        page = self.shelf.task("SK-1", limit=2)
        self.assertEqual(len(page.commits), 2)
        rest = self.shelf.task("SK-1", limit=2, cursor=page.next or "")
        self.assertEqual(([c.summary for c in rest.commits], rest.next), (["SK-1: first fares"], None))

    def test_messages_of_git_count_as_well(self) -> None:
        self.shelf.change_tasks(pattern="SK-[0-9]+")
        home = Path(tempfile.mkdtemp(prefix="es-tasks-"))
        self.addCleanup(shutil.rmtree, home, ignore_errors=True)
        signed = self.service.address.replace("//", f"//owner:{self.service.token()}@")
        run_git("clone", "-q", f"{signed}/git/{self.shelf.key}.git", "clone", folder=home)
        (home / "clone/b.txt").write_bytes(b"b")
        run_git("add", "-A", folder=home / "clone")
        run_git("commit", "-q", "-m", "In Git\n\nFor SK-30.\n\nTask: SK-31", folder=home / "clone")
        run_git("push", "-q", folder=home / "clone")
        self.assertEqual(sorted(self.names())[2:], [("SK-30", 1), ("SK-31", 1)])

    def test_what_is_refused(self) -> None:
        for said, code in (
            ({"pattern": "("}, "task.pattern"),
            ({"pattern": "(SK-)?[0-9]*"}, "task.pattern"),
            ({"pattern": "(?<=x)1"}, "task.pattern"),
            ({"address": "javascript:alert(1)//{task}"}, "task.address"),
            ({"address": "https://tasks.skerry.example/"}, "task.address"),
            ({"address": "https://["}, "task.address"),
        ):
            with self.subTest(said), self.assertRaises(ProblemError) as caught:
                self.shelf.change_tasks(**said)
            self.assertEqual((caught.exception.status, caught.exception.code), (400, code))
        with self.assertRaises(ProblemError) as caught:
            self.shelf.task("SK-404")
        self.assertEqual(caught.exception.code, "task.missing")

    def test_a_pattern_made_to_keep_a_machine_busy_does_not(self) -> None:
        self.say(CommitMessage("Long", "a" * 60_000))
        self.shelf.change_tasks(pattern="(a+)+(a+)+b")  # hours for an engine that tries again
        self.assertEqual(self.names(), [])

    def test_on_the_command_line(self) -> None:
        terminal = Terminal(self, self.service)
        terminal.set("EVERYSHELF_SHELF", self.shelf.key)
        self.assertIn("everyshelf task change --pattern", terminal.run("task", "list").stdout)
        said = terminal.run("task", "change", "--pattern", "SK-[0-9]+", "--kept-at", "https://t.example/{task}").stdout
        self.assertRegex(said, r"2 tasks\.\n  SK-1 .*\n  SK-22 +1 commit .*https://t.example/SK-22")
        shown = terminal.run("task", "show", "SK-1").stdout
        self.assertRegex(shown, r"SK-1: 2 commits, 2 artifacts\.\n  https://t.example/SK-1\n  reached +main +all")
        self.assertEqual(terminal.json("task", "show", "SK-1")["total"], 2)
        self.assertIn("names the task 'SK-9'", terminal.run("task", "show", "SK-9", code=1).stderr)
