"""Working together on the command line: parts of a shelf, commits made out of reach, runs, proposals, people, copies."""

from __future__ import annotations

import json
import sys
import unittest
from pathlib import Path

from everyshelf.client import ChangeRequest, Client
from tests.support.factories import ServiceCase, Terminal, commit_files
from tests.support.service import Service

TRAIN = """import json, os, sys
rows = open("data/sailings.csv").read().count("\\n")
given = json.loads(os.environ["EVERYSHELF_PARAMETERS"])
error = 5 - float(given["depth"]) / 10 - rows / 100
os.makedirs("results", exist_ok=True)
json.dump({"mean error": error}, open("results/metrics.json", "w"))
with open(os.environ["EVERYSHELF_METRICS"], "w") as file:
    for step in range(5):
        file.write(json.dumps({"step": step, "loss": 5 - step}) + "\\n")
print("trained", sys.argv[1], os.environ["EVERYSHELF_PARAM_DEPTH"])
"""
RULES = b'[experiments]\nmetrics = ["results/*.json"]\n[metrics]\n"mean error" = {better = "lower", unit = "min"}\n'
FILES = {
    "shelf.toml": RULES,
    "data/sailings.csv": b"id\n1\n2\n",
    "data/tides.csv": b"id\n1\n",
    "docs/a.md": b"# A\n",
    "train.py": TRAIN.encode(),
}


class PartTests(ServiceCase):
    """A desk with a part of a shelf."""

    def setUp(self) -> None:
        super().setUp()
        self.put(dict(FILES))
        self.terminal = Terminal(self, self.service)

    def test_only_a_part_is_taken_and_the_rest_stays_untouched(self) -> None:
        self.terminal.run("take", self.shelf.key, "desk", "--only", "data", "--only", "docs/a.md")
        desk = self.terminal.home / "desk"
        here = sorted(
            p.relative_to(desk).as_posix() for p in desk.rglob("*") if p.is_file() and ".everyshelf" not in p.parts
        )
        self.assertEqual(here, ["data/sailings.csv", "data/tides.csv", "docs/a.md", "shelf.toml"])
        self.terminal.folder = desk
        self.terminal.write("data/tides.csv", b"id\n1\n2\n")
        self.terminal.write("notes/new.txt", b"new\n")
        self.terminal.write("train.py", b"another one, of the same name\n")
        told = self.terminal.run("commit", "--summary", "Tides", "--merge").stdout
        self.assertIn("take --only notes/new.txt", told)
        self.assertEqual(sorted(a.path for a in self.shelf.artifacts()), sorted(FILES))
        self.assertEqual(self.shelf.read("train.py"), FILES["train.py"], "a part it does not have was overwritten")
        (desk / "train.py").unlink()
        self.terminal.run("take", "--only", "notes/new.txt")
        self.terminal.run("commit", "--summary", "A note")
        self.assertEqual(sorted(a.path for a in self.shelf.artifacts()), sorted([*FILES, "notes/new.txt"]))
        self.put({"train.py": b"print(2)\n", "docs/a.md": b"# B\n"})
        self.terminal.run("take")
        self.assertEqual((desk / "docs/a.md").read_bytes(), b"# B\n")
        self.assertFalse((desk / "train.py").exists())
        self.terminal.run("take", "--only", "train.py")
        self.assertEqual((desk / "train.py").read_bytes(), b"print(2)\n")

    def test_a_part_that_is_not_there_is_named(self) -> None:
        refused = self.terminal.run("take", self.shelf.key, "desk", "--only", "no/such", code=2)
        self.assertIn("no/such", refused.stderr)
        self.assertFalse((self.terminal.home / "desk").exists())


class RunTests(ServiceCase):
    """Commands as runs of an experiment."""

    def setUp(self) -> None:
        super().setUp()
        self.put(dict(FILES))
        self.terminal = Terminal(self, self.service)
        self.terminal.run(
            "experiment", "begin", "Deeper?", "--key", "depth", "--branch", "try", "--shelf", self.shelf.key
        )
        self.terminal.run("take", self.shelf.key, "desk", "--branch", "try")
        self.terminal.folder = self.terminal.home / "desk"

    def ran(self, *arguments: str, code: int = 0) -> dict:
        found: dict = self.terminal.json(
            "run", *arguments, "--json", "--", sys.executable, "train.py", "d={depth}", code=code
        )
        return found

    def test_what_it_read_wrote_and_measured_is_kept(self) -> None:
        ended = self.terminal.run("run", "--set", "depth=8", "--", sys.executable, "train.py", "d={depth}")
        self.assertIn("trained d=8 8", ended.stdout)
        self.assertIn("Run 1 of depth ended", ended.stdout)
        found = self.shelf.experiment("depth")
        run = found["runs"][0]
        self.assertEqual({r["path"] for r in run["reads"]}, {"data/sailings.csv", "train.py"})
        self.assertEqual((run["parameters"], run["metrics"]), ({"depth": 8}, {"mean error": 4.17, "loss": 1.0}))
        self.assertEqual(run["courses"], {"loss": 5})
        self.assertEqual(
            json.loads(self.shelf.read("results/metrics.json", f"commit:{run['commit']}")), {"mean error": 4.17}
        )
        self.assertEqual(next(self.shelf.commits("try", 1)).labels, {"experiment": "depth"})
        self.assertEqual(self.terminal.json("pending")["artifacts"], [])

    def test_runs_are_compared_in_a_table_and_as_csv(self) -> None:
        for depth in ("6", "9"):
            self.terminal.run("run", "--set", f"depth={depth}", "--", sys.executable, "train.py", "x")
        told = self.terminal.run("experiment", "show", "depth").stdout
        self.assertIn("So far mean error went from 4.37 to 4.07 min (−6.9 %), in run 2.", told)
        self.assertIn("◆ 4.07", told)
        self.assertIn("≠ 9", told)
        rows = self.terminal.run("experiment", "show", "depth", "--csv", "--differing").stdout.splitlines()
        self.assertEqual(rows[0], 'run,branch,commit,state,began,took_seconds,depth,"mean error, min"')
        self.assertEqual([r.split(",")[0] for r in rows[1:]], ["1", "2"])
        self.assertTrue(self.terminal.run("experiment", "show", "depth", "--sort", "mean error").stdout.index("◆") > 0)
        self.assertIn("no column", self.terminal.run("experiment", "show", "depth", "--sort", "x", code=2).stderr)

    def test_a_failed_run_is_kept_as_failed_and_commits_nothing(self) -> None:
        head = self.shelf.branch("try").head
        ended = self.terminal.run(
            "run", "--set", "depth=8", "--", sys.executable, "-c", "open('left', 'w').write('x'); exit(3)", code=1
        )
        self.assertIn("ended with 3", ended.stdout)
        self.assertEqual(self.shelf.branch("try").head, head)
        self.assertEqual([r["state"] for r in self.shelf.experiment("depth")["runs"]], ["failed"])
        self.assertEqual([a["path"] for a in self.terminal.json("pending")["artifacts"]], ["left"])

    def test_a_run_whose_branch_moved_on_is_merged(self) -> None:
        commit_files(self.shelf, {"docs/a.md": b"# Meanwhile\n"}, "Meanwhile", "try")
        self.terminal.run("run", "--set", "depth=8", "--", sys.executable, "train.py", "x")
        self.assertEqual(self.shelf.read("docs/a.md", "try"), b"# Meanwhile\n")
        self.assertEqual(self.shelf.experiment("depth")["runs"][0]["state"], "done")

    def test_wrong_usage_is_said(self) -> None:
        self.assertIn("NAME=VALUE", self.terminal.run("run", "--set", "depth", "--", "true", code=2).stderr)
        self.assertIn("cannot be started", self.terminal.run("run", "--", "no-such-command", code=1).stderr)
        self.shelf.abandon_experiment("depth", "enough")
        self.assertIn("o open experiment", self.terminal.run("run", "--", "true", code=2).stderr)


class OutOfReachTests(unittest.TestCase):
    """Commits made while the service is away, sent later in order."""

    service: Service
    client: Client

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service()
        cls.addClassCleanup(cls.service.stop)
        cls.client = cls.service.client()
        cls.addClassCleanup(cls.client.close)

    def setUp(self) -> None:
        self.shelf = self.client.shelf(self.client.make_shelf(f"Far away {self._testMethodName[5:40]}").key)
        flow = {"steps": [{"id": k, "run": f"{k}.py", "timeout": 30} for k in ("weigh", "load", "sail")]}
        self.flow = json.dumps(flow, indent=2).encode()
        self.commit({"flow.json": self.flow, **FILES}, "Base")
        self.shelf.make_branch("try")
        self.shelf.begin_experiment("Deeper?", key="depth", branch="try")
        self.terminal = Terminal(self, self.service)
        self.terminal.run("take", self.shelf.key, "desk")
        self.terminal.folder = self.terminal.home / "desk"

    def commit(self, files: dict[str, bytes], summary: str) -> None:
        changes = [ChangeRequest(p, self.shelf.upload(d).id) for p, d in files.items()]
        self.shelf.commit("main", self.shelf.branch("main").head, changes, summary)

    def away(self) -> None:
        self.service.kill_group()

    def test_they_wait_are_shown_and_sent_in_order_with_the_next_command(self) -> None:
        self.away()
        desk = self.terminal
        desk.write("a.txt", b"one\n")
        said = desk.run("commit", "--summary", "First, offline", "--task", "SK-1")
        self.assertIn("the service is out of reach, 1 unsent commit here", said.stdout)
        desk.write("a.txt", b"two\n")
        desk.write("flow.json", self.flow.replace(b'"weigh.py"', b'"scales.py"'))
        self.assertEqual(desk.json("commit", "--summary", "Second, offline")["unsent"], 2)
        (desk.folder / "docs/a.md").unlink()
        desk.run("commit", "--summary", "Third, offline")
        shown = desk.json("pending")
        self.assertEqual(
            [w["summary"] for w in shown["unsent"]], ["First, offline", "Second, offline", "Third, offline"]
        )
        self.assertEqual(shown["artifacts"], [])
        desk.run("take", code=5)
        self.assertEqual((desk.folder / "a.txt").read_bytes(), b"two\n", "taking lost what waits")
        self.service.start()
        self.assertEqual(len(desk.json("commit", "--send")["sent"]), 3)
        line = [(c.summary, [a["path"] for a in c.artifacts]) for c in self.shelf.commits("main", 3)]
        self.assertEqual([s for s, _ in line], ["Third, offline", "Second, offline", "First, offline"])
        self.assertEqual(next(iter(self.shelf.commits("main", 3))).description[:17], "Made on a desk at")
        self.assertEqual(self.shelf.read("a.txt"), b"two\n")
        self.assertNotIn("docs/a.md", [a.path for a in self.shelf.artifacts()])
        self.assertEqual(desk.json("pending")["unsent"], [])
        self.assertIn("No unsent commits", desk.run("commit", "--send").stdout)

    def test_a_branch_that_moved_on_takes_each_by_meaning(self) -> None:
        self.away()
        desk = self.terminal
        desk.write("flow.json", self.flow.replace(b'"weigh.py"', b'"scales.py"'))
        desk.run("commit", "--summary", "First, offline")
        desk.write("flow.json", self.flow.replace(b'"weigh.py"', b'"scales.py"').replace(b'"sail.py"', b'"leave.py"'))
        desk.run("commit", "--summary", "Second, offline")
        self.service.start()
        self.commit({"flow.json": self.flow.replace(b'"load.py"', b'"stow.py"')}, "Meanwhile")
        desk.run("take")
        merged = self.shelf.read("flow.json")
        for name in (b"scales.py", b"stow.py", b"leave.py"):
            self.assertIn(name, merged)
        self.assertEqual((desk.folder / "flow.json").read_bytes(), merged)
        self.assertEqual(desk.json("pending")["artifacts"], [])

    def test_one_that_collides_waits_until_it_is_settled(self) -> None:
        self.away()
        desk = self.terminal
        desk.write("flow.json", self.flow.replace(b'"weigh.py"', b'"scales.py"'))
        desk.run("commit", "--summary", "First, offline")
        desk.write("b.txt", b"b\n")
        desk.run("commit", "--summary", "Second, offline")
        self.service.start()
        self.commit({"flow.json": self.flow.replace(b'"weigh.py"', b'"lift.py"')}, "Meanwhile")
        refused = desk.json("commit", "--send", code=3)
        merge = refused["problem"]["merge"]
        self.assertEqual(len(desk.json("pending")["unsent"]), 2)
        self.shelf.settle(merge, [{"path": None, "conflict": None, "take": "source"}])
        self.shelf.finish_merge(merge)
        desk.run("commit", "--send")
        self.assertIn(b"scales.py", self.shelf.read("flow.json"))
        self.assertEqual(self.shelf.read("b.txt"), b"b\n")
        self.assertEqual(desk.json("pending")["unsent"], [])

    def test_a_run_out_of_reach_is_recorded_later(self) -> None:
        desk = self.terminal
        desk.folder = desk.home
        desk.run("take", self.shelf.key, "other", "--branch", "try")
        desk.folder = desk.home / "other"
        self.away()
        said = desk.run("run", "--experiment", "depth", "--set", "depth=8", "--", sys.executable, "train.py", "x")
        self.assertIn("A run of depth waits on this desk", said.stdout)
        self.service.start()
        desk.run("commit", "--send")
        run = self.shelf.experiment("depth")["runs"][0]
        self.assertEqual((run["parameters"], run["metrics"]["mean error"]), ({"depth": 8}, 4.17))
        self.assertEqual(
            json.loads(self.shelf.read("results/metrics.json", f"commit:{run['commit']}")), {"mean error": 4.17}
        )


class PeopleTests(ServiceCase):
    """Members, invitations, the log, proposals, checks, copies, in words and as JSON."""

    def setUp(self) -> None:
        super().setUp()
        self.put({"a.json": b'{"n": 1}\n'})
        self.terminal = Terminal(self, self.service)
        self.terminal.set("EVERYSHELF_SHELF", self.shelf.key)

    def test_people_are_invited_and_join_from_their_own_terminal(self) -> None:
        link = self.terminal.json("member", "invite", "--role", "author", "--for", "the mate")["link"]
        name = f"mate-{Path(self.shelf.key).name[:30]}"
        mate = Terminal(self, self.service, "reader")
        mate.run("connect", self.service.address, "--name", name, "--invitation", link)
        roles = {m["person"]: m["role"] for m in self.terminal.json("member", "list")}
        self.assertEqual(roles, {"owner": "owner", name: "author"})
        self.assertIn("accepted by", self.terminal.run("member", "invitations").stdout)
        self.terminal.run("member", "set", name, "keeper")
        self.terminal.run("member", "remove", name)
        self.assertIn("1 person has a role", self.terminal.run("member", "list").stdout)
        told = self.terminal.run("log", "--about", "member").stdout
        self.assertIn(f"removed from the shelf {name}", told)
        entries = self.terminal.json("log", "--limit", "2")
        self.assertEqual(len(entries), 2)
        self.assertIn("can read it", self.terminal.run("shelf", "change", "--open").stdout)

    def test_a_branch_without_a_name_gets_one_from_its_note(self) -> None:
        made = self.terminal.run("branch", "make", "--note", "Do lower fares fill the boats?").stdout
        self.assertIn("owner/lower-fares-fill", made)
        self.assertIn("owner/lower-fares-fill", [b.name for b in self.shelf.branches()])

    def test_a_proposal_from_opening_to_merging(self) -> None:
        self.shelf.make_branch("try")
        commit_files(self.shelf, {"a.json": b'{"n": 2}\n'}, "Two", "try")
        self.shelf.set_member("keeper", "keeper")
        opened = self.terminal.run("proposal", "open", "try", "--title", "Two of them", "--ask", "keeper").stdout
        self.assertIn("Proposal 1: Two of them\n  try into main, by owner", opened)
        keeper = Terminal(self, self.service, "keeper")
        keeper.set("EVERYSHELF_SHELF", self.shelf.key)
        self.assertIn("give a verdict", keeper.run("proposal", "tasks").stdout)
        keeper.run("proposal", "remark", "1", "Why two?", "--on", "a.json", "--part", "/setting:n")
        keeper.run("proposal", "verdict", "1", "against", "--comment", "after the season")
        held = self.terminal.run("proposal", "merge", "1", code=4)
        self.assertIn("after the season", held.stderr)
        shown = self.terminal.run("proposal", "show", "1").stdout
        for words in ("1 artifact edited", "Why two?", "NOT MET", "keeper is against"):
            self.assertIn(words, shown)
        remark = self.terminal.json("proposal", "show", "1")["remarks"][0]["id"]
        self.terminal.run("proposal", "remark", "1", "Because.", "--answer", remark)
        self.terminal.run("proposal", "settle-remark", "1", remark)
        self.terminal.run("check", "record", "smoke", "--passed", "--at", "try", "--comment", "9 of 9")
        self.assertIn("smoke", self.terminal.run("check", "list", "--at", "try").stdout)
        keeper.run("proposal", "verdict", "1", "agree")
        self.assertIn("Proposal 1 is merged into main", self.terminal.run("proposal", "merge", "1", "--delete").stdout)
        self.assertIn("merged", self.terminal.run("proposal", "list", "--state", "all").stdout)
        self.assertEqual(self.shelf.read("a.json"), b'{"n": 2}\n')

    def test_an_artifact_is_copied_from_another_shelf(self) -> None:
        target = self.make_shelf()
        said = self.terminal.run("copy", self.shelf.key, "a.json", "--output", "b.json", "--shelf", target.key).stdout
        self.assertIn("Copied b.json with 1 version", said)
        self.assertEqual(target.read("b.json"), b'{"n": 1}\n')
