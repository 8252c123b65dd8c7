"""Every ``Next:`` is pasted and tried in the state in which it is shown: it does something, and never fails."""

from __future__ import annotations

import json
import shlex
import subprocess
import sys
from pathlib import Path

from everyshelf.client import Saving
from tests.support.factories import ServiceCase, Terminal, commit_files

FLOW = {"steps": [{"id": "a", "next": "b", "timeout": 30}, {"id": "b"}]}


def flow(**changes: object) -> bytes:
    first = {**FLOW["steps"][0], **changes}
    return json.dumps({"steps": [first, FLOW["steps"][1]]}).encode()


class NextStepTests(ServiceCase):
    """One state after the other, as people meet them."""

    def setUp(self) -> None:
        super().setUp()
        self.terminal = Terminal(self, self.service)
        self.terminal.set("EVERYSHELF_SHELF", self.shelf.key)

    def follow(self, *arguments: str, code: int = 0, ends: int = 0, at: str = "Next: ") -> str:
        """Run a command, then paste its next step; ``code`` and ``ends`` are what the two end with. Gives the step."""
        done = self.terminal.run(*arguments, code=code)
        steps = [line for line in (done.stdout + done.stderr).splitlines() if line.startswith(at)]
        self.assertEqual(len(steps), 1, (arguments, done.stdout, done.stderr))
        self.paste(steps[0].removeprefix(at), ends)
        return steps[0].removeprefix(at)

    def paste(self, command: str, ends: int = 0) -> str:
        program = f"{shlex.quote(sys.executable)} -P -m everyshelf.cli.main"
        script = command.replace("everyshelf ", f"{program} ")
        done = subprocess.run(
            ["bash", "-c", script],
            cwd=self.terminal.folder,
            env=self.terminal.environment,
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(done.returncode, ends, (command, done.stdout, done.stderr))
        self.assertTrue(done.stdout.strip() or ends, command)
        return done.stdout

    def nothing_follows(self, *arguments: str, code: int = 0) -> None:
        done = self.terminal.run(*arguments, code=code)
        self.assertNotIn("Next:", done.stdout + done.stderr)

    def desk(self) -> None:
        """A desk with one artifact committed."""
        self.put({"flow.json": flow(), "fares.csv": b"id,fare\n1,2\n2,3\n"}, "Base")
        self.terminal.run("take", self.shelf.key, "desk")
        self.terminal.folder = self.terminal.home / "desk"

    def test_from_nothing_to_a_commit(self) -> None:
        self.follow("connect", self.service.address, "--name", "owner", "--scope", "admin", "--scope", "promote")
        self.assertIn("everyshelf pending", self.follow("shelf", "list"))  # it is taken already
        name = f"Next {self.shelf.key}"
        self.assertIn("take", self.follow("shelf", "make", name))
        mine = Path(self.terminal.home, "mine")
        mine.mkdir()
        (mine / "a.txt").write_text("a\n")
        self.follow("shelf", "make", f"{name} folder", "--folder", "mine")
        self.follow("take", self.shelf.key, "desk")
        self.terminal.folder = self.terminal.home / "desk"
        self.nothing_follows("pending")
        self.terminal.write("a.txt", b"a\n")
        self.follow("pending")
        self.terminal.write("b.txt", b"b\n")
        self.follow("commit", "--summary", "Two")
        self.terminal.write("b.txt", b"c\n")
        self.follow("compare")
        self.terminal.run("draft", "save")
        self.follow("draft", "list")

    def test_branches_experiments_and_proposals(self) -> None:
        self.desk()
        self.assertIn("../owner-late", self.follow("branch", "make", "owner/late"))
        self.assertIn("../depth", self.follow("experiment", "begin", "Does depth help?", "--key", "depth"))
        self.follow("experiment", "list")
        self.nothing_follows("proposal", "list")
        self.put({"flow.json": flow(timeout=10)}, "Faster", "owner/late")
        self.assertIn("proposal open owner/late", self.follow("proposal", "list"))
        self.put({"fares.csv": b"id,fare\n1,5\n"}, "Fares", "owner/depth")
        self.nothing_follows("proposal", "open", "owner/depth", "--title", "Depth")
        self.follow("proposal", "list")
        self.follow("proposal", "show", "1")
        self.assertEqual(self.shelf.proposal(1)["state"], "merged")

    def test_a_proposal_with_open_points_leads_to_the_first(self) -> None:
        self.desk()
        self.shelf.guard_branch("main")
        self.shelf.set_member("keeper", "keeper")
        self.shelf.make_branch("keeper/faster")
        keeper = self.client_of("keeper").shelf(self.shelf.key)
        commit_files(keeper, {"flow.json": flow(timeout=10)}, "Faster", "keeper/faster")
        keeper.open_proposal("Faster", "keeper/faster")
        self.assertIn("agree", self.follow("proposal", "remark", "1", "Try the scale first", "--condition"))
        self.assertIn("settle-remark", self.follow("proposal", "show", "1"))
        self.assertEqual(self.shelf.proposal(1)["not_met"], [])
        self.follow("proposal", "show", "1")
        self.assertEqual(self.shelf.proposal(1)["state"], "merged")

    def test_a_conflict_leads_to_a_finished_merge(self) -> None:
        self.desk()
        self.shelf.make_branch("other")
        commit_files(self.shelf, {"flow.json": flow(timeout=10, next=None)}, "Other", "other")
        self.put({"flow.json": flow(timeout=20, next="c")}, "Main")
        self.follow("merge", "other", code=3, ends=0, at="Settle them: ")
        step = self.follow("settle")
        self.assertIn(" 1 --take target", step)
        self.assertIn(" 2 --take target", self.follow("settle"))
        self.assertIn("--finish", self.follow("settle"))
        self.assertEqual(self.shelf.merges(), [])
        self.assertIn("Merge other", next(iter(self.shelf.commits())).summary)

    def test_from_a_tag_to_a_deployment_and_its_drift(self) -> None:
        self.desk()
        self.nothing_follows("env", "make", "test", "--fed-from", "main", "--check", "smoke", "--no-drift")
        self.follow("tag", "make", "one", ends=4)  # a rehearsal that says what is missing
        self.follow("rehearse", "one", "test", code=4)  # leads to the checks
        self.terminal.run("check", "record", "smoke", "--passed", "--at", "one")
        self.follow("env", "list")
        self.follow("rehearse", "one", "test")
        self.assertEqual(self.shelf.environment("test").current.tag, "one")  # type: ignore[union-attr]
        self.follow("env", "make", "later", "--fed-from", "main")
        place = Path(self.shelf.environment("test").address) / "now" / "fares.csv"
        place.chmod(0o644)
        place.write_bytes(b"id,fare\n1,9\n2,3\n")
        self.put({"flow.json": flow(timeout=5)}, "Newer")
        self.shelf.make_tag("two")
        self.terminal.run("check", "record", "smoke", "--passed", "--at", "two")
        self.assertIn("--capture", self.follow("rehearse", "two", "test", code=4))
        self.follow("drift", "test")
        self.follow("drift", "test", "--capture")

    def test_bindings_trials_and_databases(self) -> None:
        self.desk()
        rules = b'[bindings]\nDESK = {in = "settings/*.json"}\n'
        self.put({"shelf.toml": rules, "settings/feeds.json": b'{"to": "${DESK}"}'}, "Bound")
        self.shelf.make_tag("bound")
        self.follow("env", "make", "test", ends=4)  # leads to a rehearsal that says what has no value
        self.assertIn("DESK=VALUE", self.follow("rehearse", "bound", "test", code=4))
        self.put({"shelf.toml": b"", "settings/feeds.json": b"{}"}, "Not bound")
        self.shelf.make_tag("plain")
        self.nothing_follows("env", "try", "first", "plain")
        self.terminal.run("take")
        self.terminal.write("fares.csv", b"id,fare\n1,7\n2,3\n")
        self.terminal.run("draft", "save")
        self.assertIn("try-draft second", self.follow("env", "try", "second", "plain"))
        self.follow("env", "try-draft", "first")

    def test_without_the_service_and_with_files(self) -> None:
        self.desk()
        self.terminal.run("parcel", "pack", "main", "--output", "a parcel.zip")
        self.follow("parcel", "pack", "main", "--output", "another parcel.zip")
        self.follow("parcel", "show", "another parcel.zip")
        for name, timeout in (("base", 30), ("one", 10), ("two", 20)):
            self.terminal.write(f"{name}.json", flow(timeout=timeout))
        files = ("base.json", "one.json", "two.json", "--output", "merged.json")
        self.follow("merge-files", *files, code=3)
        (self.terminal.folder / "feature").mkdir()
        self.terminal.write("feature/a.txt", b"a")
        subprocess.run(
            [sys.executable, "-m", "zipfile", "-c", "the suite.zip", "feature/a.txt"],
            cwd=self.terminal.folder,
            check=True,
        )
        self.follow("unfold", "the suite.zip")
        self.follow("copy", self.shelf.key, "fares.csv", "--output", "old fares.csv")

    def test_an_unsent_commit_is_sent(self) -> None:
        self.desk()
        self.terminal.write("fares.csv", b"id,fare\n1,4\n2,3\n")
        home = self.terminal.folder / ".everyshelf" / "desk.json"
        there = home.read_text()
        home.write_text(there.replace(self.service.address, "http://127.0.0.1:9"))
        done = self.terminal.run("commit", "--summary", "Later")
        self.assertIn("Next: everyshelf commit --send", done.stdout)
        home.write_text(home.read_text().replace("http://127.0.0.1:9", self.service.address))
        self.follow("pending", "--unsent")
        self.assertEqual(self.shelf.history("fares.csv")[0].summary, "Later")

    def test_drafts_lead_to_a_commit(self) -> None:
        self.put({"a.txt": b"a"}, "Base")
        self.shelf.save("main", [Saving("a.txt", self.shelf.upload(b"b").id)])
        self.follow("draft", "list")
        self.assertEqual(self.shelf.read("a.txt"), b"b")
