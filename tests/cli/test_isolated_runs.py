"""``run --isolated``: a command in a folder of its own, with what is on the branch and nothing of the desk."""

from __future__ import annotations

import json
import subprocess
import sys
import threading
import unittest
from pathlib import Path

from everyshelf.client import Client
from tests.support.factories import ServiceCase, Terminal, commit_files
from tests.support.service import Service
from tests.support.waiting import until

# Reads the sailings, writes over them where they lie, and leaves what it measured.
COUNT = b"""import json, os, sys
with open("data/sailings.csv", "r+b") as file:
    rows = file.read().count(b"\\n") - 1
    file.write(b"9\\n")
os.makedirs("results", exist_ok=True)
json.dump({"rows": rows}, open("results/metrics.json", "w"))
open("results/seen.json", "w").write(json.dumps(sorted(os.listdir("."))))
"""
FILES = {
    "shelf.toml": b'[experiments]\nmetrics = ["results/metrics.json"]\n',
    "data/sailings.csv": b"id\n1\n2\n",
    "docs/a.md": b"# A\n",
    "count.py": COUNT,
}
RUN = ("--", sys.executable, "count.py")


def tree(folder: Path) -> dict[str, bytes]:
    """The files of a desk, without what it remembers."""
    found = (p for p in folder.rglob("*") if p.is_file() and ".everyshelf" not in p.parts)
    return {path.relative_to(folder).as_posix(): path.read_bytes() for path in found}


class IsolatedRunTests(ServiceCase):
    """On a desk of the branch, with work pending."""

    def setUp(self) -> None:
        super().setUp()
        self.put(dict(FILES))
        self.shelf.make_branch("try")
        self.shelf.begin_experiment("How many?", key="many", branch="try")
        self.terminal = Terminal(self, self.service)
        self.terminal.run("take", self.shelf.key, "desk", "--branch", "try")
        self.terminal.folder = self.terminal.home / "desk"
        self.scratch = self.terminal.home / "scratch"
        self.scratch.mkdir()
        self.terminal.set("TMPDIR", str(self.scratch))

    def folders(self) -> list[Path]:
        return list(self.scratch.glob("everyshelf-run-*"))

    def test_the_desk_is_neither_seen_nor_changed(self) -> None:
        desk = self.terminal
        desk.write("docs/a.md", b"# Edited and not committed\n")
        desk.write("notes.txt", b"new here\n")
        before, head = tree(desk.folder), self.shelf.branch("try").head
        said = desk.run("run", "--isolated", "--set", "depth=8", *RUN)
        self.assertIn("Run 1 of many ended", said.stdout)
        self.assertEqual(tree(desk.folder), before)
        states = {a["path"]: a["state"] for a in desk.json("pending")["artifacts"]}
        self.assertEqual(states, {"docs/a.md": "edited", "notes.txt": "new"})
        self.assertEqual(self.folders(), [])
        made = next(self.shelf.commits("try", 1))
        self.assertEqual(made.parents, [head])
        changed = {a["path"] for a in made.artifacts}
        self.assertEqual(changed, {"data/sailings.csv", "results/metrics.json", "results/seen.json"})
        self.assertEqual(self.shelf.read("data/sailings.csv", "try"), b"id\n1\n2\n9\n")
        seen = json.loads(self.shelf.read("results/seen.json", "try"))
        self.assertEqual(seen, [".everyshelf", "count.py", "data", "docs", "results", "shelf.toml"])
        run = self.shelf.experiment("many")["runs"][0]
        self.assertEqual((run["state"], run["metrics"], run["parameters"]), ("done", {"rows": 2}, {"depth": 8}))
        self.assertEqual({(r["path"], r["version"]) for r in run["reads"]}, {("count.py", 1), ("data/sailings.csv", 1)})
        self.assertEqual(self.shelf.branch("main").head, head)

    def test_what_the_branch_has_meanwhile_is_what_it_runs_on(self) -> None:
        commit_files(self.shelf, {"data/sailings.csv": b"id\n1\n2\n3\n4\n"}, "More sailings", "try")
        commit_files(self.shelf, {"docs/a.md": None}, "No document", "try")
        self.terminal.run("run", "--isolated", *RUN)
        self.assertEqual(self.shelf.experiment("many")["runs"][0]["metrics"], {"rows": 4})
        self.assertNotIn("docs/a.md", [a.path for a in self.shelf.artifacts("try")])
        self.assertEqual((self.terminal.folder / "data/sailings.csv").read_bytes(), FILES["data/sailings.csv"])

    def test_another_branch_and_no_desk_at_all(self) -> None:
        self.shelf.make_branch("other", "main")
        commit_files(self.shelf, {"data/sailings.csv": b"id\n"}, "None", "other")
        found = self.terminal.json("run", "--isolated", "--branch", "other", "--experiment", "many", "--json", *RUN)
        self.assertEqual(found["run"]["metrics"], {"rows": 0})
        self.assertEqual(next(self.shelf.commits("other", 1)).labels, {"experiment": "many"})
        self.terminal.folder = self.terminal.home
        self.terminal.run("run", "--isolated", "--shelf", self.shelf.key, "--branch", "try", *RUN)
        self.assertEqual([r["branch"] for r in self.shelf.experiment("many")["runs"]], ["other", "try"])

    def test_it_runs_at_the_same_place_and_with_the_same_part(self) -> None:
        desk = self.terminal
        desk.folder = desk.home
        desk.run("take", self.shelf.key, "part", "--branch", "try", "--only", "data")
        desk.folder = desk.home / "part" / "data"
        code = "import os; open('here.json', 'w').write(repr(sorted(os.listdir('..'))).replace(chr(39), chr(34)))"
        desk.run("run", "--isolated", "--read", "sailings.csv", "--", sys.executable, "-c", code)
        self.assertEqual(json.loads(self.shelf.read("data/here.json", "try")), [".everyshelf", "data", "shelf.toml"])
        self.assertEqual([r["path"] for r in self.shelf.experiment("many")["runs"][0]["reads"]], ["data/sailings.csv"])
        self.assertFalse((desk.folder / "here.json").exists())

    def test_a_run_that_fails_commits_nothing_and_its_folder_stays_where_that_is_asked_for(self) -> None:
        head, fails = self.shelf.branch("try").head, ("--", sys.executable, "-c", "open('left', 'w'); exit(3)")
        said = self.terminal.run("run", "--isolated", *fails, code=1)
        self.assertIn("ended with 3", said.stdout)
        self.assertIn("--keep", said.stdout)
        self.assertEqual(self.folders(), [])
        said = self.terminal.run("run", "--isolated", "--keep", *fails, code=1)
        (kept,) = self.folders()
        self.assertIn(f"The folder is kept: {kept.resolve()}", said.stderr)
        self.assertTrue((kept / "left").exists())
        self.assertEqual(self.shelf.branch("try").head, head)
        self.assertEqual([r["state"] for r in self.shelf.experiment("many")["runs"]], ["failed", "failed"])

    def test_a_branch_that_moves_on_meanwhile_is_merged(self) -> None:
        self.meanwhile({"docs/a.md": b"# Meanwhile\n"})
        self.assertEqual(self.shelf.read("docs/a.md", "try"), b"# Meanwhile\n")
        self.assertEqual(self.shelf.read("data/sailings.csv", "try"), b"id\n1\n2\n9\n")
        self.assertEqual(self.folders(), [])

    def test_where_it_collides_the_folder_stays(self) -> None:
        said = self.meanwhile({"results/metrics.json": b'{"rows": 77}\n'}, code=3)
        (kept,) = self.folders()
        self.assertIn(f"The folder is kept: {kept.resolve()}", said)
        self.assertEqual(json.loads((kept / "results/metrics.json").read_bytes()), {"rows": 2})
        self.assertEqual(json.loads(self.shelf.read("results/metrics.json", "try")), {"rows": 77})

    def meanwhile(self, files: dict[str, bytes], code: int = 0) -> str:
        """Run the script, and commit files to its branch while it runs; gives what the command says on the side."""
        started, go = self.terminal.home / "started", self.terminal.home / "go"
        wait = "import os, time; open({!r}, 'w').close()\nwhile not os.path.exists({!r}): time.sleep(0.02)\n"
        script = wait.format(str(started), str(go)) + COUNT.decode()
        said: list[subprocess.CompletedProcess[str]] = []

        def run() -> None:
            said.append(self.terminal.run("run", "--isolated", "--", sys.executable, "-c", script, code=code))

        running = threading.Thread(target=run)
        running.start()
        try:
            until(started.exists, "the command runs")
            commit_files(self.shelf, files, "Meanwhile", "try")
        finally:
            go.touch()
            running.join()
        self.assertEqual(len(said), 1, "the command ended in another way")
        return said[0].stderr

    def test_edits_made_while_the_folder_is_filled_do_not_reach_it(self) -> None:
        """What is copied from the desk is looked at again before the command runs."""
        from everyshelf.desk import isolated
        from everyshelf.desk.desk import Desk

        copy, desk = isolated._copy, Desk.find(self.terminal.folder)

        def late(source: Path, target: Path) -> None:
            copy(source, target)
            if source.name == "a.md":
                target.write_bytes(b"# Half of an edit")

        isolated._copy = late
        self.addCleanup(setattr, isolated, "_copy", copy)
        made = isolated.make_isolated(self.shelf, "try", desk, lambda *_: None)
        self.addCleanup(made.remove)
        self.assertEqual(tree(made.desk.root), FILES)
        self.assertEqual(sorted(made.copied), ["count.py", "data/sailings.csv", "shelf.toml"])
        self.assertEqual(made.desk.pending(), [])

    def test_wrong_usage_is_said(self) -> None:
        for option in (("--keep",), ("--branch", "try"), ("--shelf", "x")):
            self.assertIn("--isolated", self.terminal.run("run", *option, "--", "true", code=2).stderr)
        self.assertIn(
            "cannot be started", self.terminal.run("run", "--isolated", "--", "no-such-command", code=1).stderr
        )
        self.assertIn("none", self.terminal.run("run", "--isolated", "--branch", "none", "--", "true", code=2).stderr)
        self.shelf.abandon_experiment("many", "enough")
        self.assertIn("o open experiment", self.terminal.run("run", "--isolated", "--", "true", code=2).stderr)
        self.assertEqual(self.folders(), [])


class OutOfReachTests(unittest.TestCase):
    """The service goes away while the command runs."""

    service: Service
    client: Client

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service()
        cls.addClassCleanup(cls.service.stop)
        cls.client = cls.service.client()
        cls.addClassCleanup(cls.client.close)

    def test_the_folder_stays_and_is_sent_from_there(self) -> None:
        shelf = self.client.shelf(self.client.make_shelf("Away").key)
        commit_files(shelf, FILES, "Base")
        shelf.make_branch("try")
        shelf.begin_experiment("How many?", key="many", branch="try")
        desk = Terminal(self, self.service)
        desk.run("take", shelf.key, "desk", "--branch", "try")
        desk.folder = desk.home / "desk"
        desk.set("TMPDIR", str(desk.home))
        assert self.service.process is not None
        killing = f"import os; os.killpg({self.service.process.pid}, 9)\n"
        said = desk.run("run", "--isolated", "--", sys.executable, "-c", killing + COUNT.decode())
        self.service.process.wait()
        (kept,) = desk.home.glob("everyshelf-run-*")
        self.assertIn(f"waits in {kept.resolve()}", said.stdout)
        self.service.start()
        desk.folder = kept
        desk.run("commit", "--send")
        run = shelf.experiment("many")["runs"][0]
        self.assertEqual(run["metrics"], {"rows": 2})
        self.assertEqual(json.loads(shelf.read("results/metrics.json", f"commit:{run['commit']}")), {"rows": 2})
