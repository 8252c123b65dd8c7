"""Nothing on a desk is lost, removed or sent by chance."""

from __future__ import annotations

import json
import os
import subprocess
import unittest
from pathlib import Path

from tests.support.factories import ServiceCase, Terminal, commit_files
from tests.support.service import Service

FILES: dict[str, bytes | None] = {
    "data/tides.csv": b"id,height\n1,2.0\n2,2.4\n",
    "logs/a.txt": b"a\n",
    "logs/b.txt": b"b\n",
    "flow.json": b'{"steps": [{"id": "a", "name": "Wait"}]}\n',
}


class DeskCase(ServiceCase):
    """A desk with four artifacts."""

    def setUp(self) -> None:
        super().setUp()
        self.put(dict(FILES))
        self.desk = self.make_desk("desk")

    def make_desk(self, name: str, person: str = "owner") -> Terminal:
        terminal = Terminal(self, self.service, person)
        terminal.run("take", self.shelf.key, name)
        terminal.folder = terminal.home / name
        return terminal

    def paths(self) -> set[str]:
        return {a.path for a in self.shelf.artifacts()}


class IgnoringTests(DeskCase):
    """A.2: ignoring is not removing."""

    def test_a_pattern_over_versioned_artifacts_removes_nothing(self) -> None:
        self.desk.write("shelf.toml", b'[ignore]\npatterns = ["logs/"]\n')
        states = {a["path"]: a["state"] for a in self.desk.json("pending", "--all")["artifacts"]}
        self.assertEqual((states["logs/a.txt"], states["shelf.toml"]), ("same", "new"))
        self.desk.run("commit", "--summary", "Leave logs out")
        self.assertEqual(self.paths(), {*FILES, "shelf.toml"})

    def test_a_colleague_keeps_her_files(self) -> None:
        self.shelf.set_member("keeper", "keeper")
        other = self.make_desk("hers", "keeper")
        self.desk.write("shelf.toml", b'[ignore]\npatterns = ["logs/"]\n')
        self.desk.run("commit", "--summary", "Leave logs out")
        other.run("take")
        self.assertTrue((other.folder / "logs/a.txt").is_file())
        self.desk.run("commit", "--summary", "Logs leave the shelf", "--remove", "logs")
        self.assertEqual(self.paths(), {"data/tides.csv", "flow.json", "shelf.toml"})
        self.assertTrue((self.desk.folder / "logs/a.txt").is_file(), "it left the shelf, not the disk")
        other.run("take")
        self.assertTrue((other.folder / "logs/a.txt").is_file(), "what is ignored here is not ours to delete")
        self.assertEqual(other.json("pending")["counts"]["gone"], 0)

    def test_a_commit_tells_what_it_removes(self) -> None:
        (self.desk.folder / "logs/a.txt").unlink()
        self.desk.write("flow.json", b"{}\n")
        self.desk.write("new.txt", b"new\n")
        told = self.desk.run("commit", "--summary", "Tidy").stdout
        self.assertIn("1 added, 1 changed, 1 removed", told)

    def test_many_removals_are_asked_about(self) -> None:
        commit_files(self.shelf, {f"old/{n}.txt": b"%d" % n for n in range(8)}, "Old ones")
        self.desk.run("take")
        subprocess.run(["rm", "-r", str(self.desk.folder / "old")], check=True)
        refused = self.desk.run("commit", "--summary", "Oops", code=2)
        self.assertIn("removes 8 artifacts", refused.stderr)
        self.assertEqual(len(self.paths()), 12)
        self.desk.run("commit", "--summary", "Meant", "--remove")
        self.assertEqual(self.paths(), set(FILES))


class OwnWorkTests(DeskCase):
    """A.7: nobody settles against their own work."""

    def clash(self) -> str:
        """A commit of the desk that waits to be settled; gives the merge."""
        self.put({"flow.json": b'{"steps": [{"id": "a", "name": "Theirs"}]}\n'})
        self.desk.write("flow.json", b'{"steps": [{"id": "a", "name": "Mine"}]}\n')
        document = self.desk.json("commit", "--summary", "Mine", "--merge", code=3)
        return str(document["problem"]["merge"])

    def test_finishing_a_merge_brings_its_desk_up_to_date(self) -> None:
        self.clash()
        self.desk.run("settle", "--take", "source")
        self.desk.run("settle", "--finish")
        self.assertIn(b"Mine", (self.desk.folder / "flow.json").read_bytes())
        found = self.desk.json("pending")
        self.assertEqual((found["artifacts"], found["commit"]), ([], self.shelf.branch("main").head))

    def test_a_merge_settled_elsewhere_does_not_come_back(self) -> None:
        merge = self.clash()
        self.shelf.settle(merge, [{"path": "flow.json", "conflict": None, "take": "target"}])
        made = self.shelf.finish_merge(merge, "")
        # Edited again before anybody looked: only that is still one's own.
        self.desk.write("flow.json", b'{"steps": [{"id": "a", "name": "Mine"}], "owner": "me"}\n')
        self.desk.run("catch-up")
        self.assertEqual(
            json.loads((self.desk.folder / "flow.json").read_bytes()),
            {"steps": [{"id": "a", "name": "Theirs"}], "owner": "me"},
        )
        self.desk.run("commit", "--summary", "Owner")
        self.assertNotEqual(self.shelf.branch("main").head, made.commit)
        self.assertEqual(self.shelf.merges(), [])

    def test_an_abandoned_merge_leaves_the_work_pending(self) -> None:
        self.clash()
        self.desk.run("settle", "--abandon")
        self.assertEqual([a["path"] for a in self.desk.json("pending")["artifacts"]], ["flow.json"])

    def test_a_draft_goes_on_from_its_own_commits(self) -> None:
        """A draft begun on an empty branch had "none" as its base for ever."""
        shelf = self.make_shelf()
        files = {f"f{n}.txt": b"%d" % n for n in range(3)}
        from everyshelf.client import Saving

        shelf.save("main", [Saving(p, shelf.upload(d).id) for p, d in files.items()], None)
        shelf.commit_draft("main", "One of three", paths=["f0.txt"])
        shelf.save("main", [Saving("f0.txt", shelf.upload(b"again").id)], None)
        shelf.commit_draft("main", "The rest")
        self.assertEqual(shelf.merges(), [])
        self.assertEqual({p: shelf.read(p) for p in files}, {"f0.txt": b"again", "f1.txt": b"1", "f2.txt": b"2"})

    def test_a_draft_still_meets_what_others_changed(self) -> None:
        """Going on from one's own commit must not overwrite a colleague's change to what is still pending."""
        from everyshelf.client import ProblemError, Saving

        base = self.shelf.branch("main").head
        edits = [Saving("logs/a.txt", self.shelf.upload(b"mine\n").id), Saving("new.txt", self.shelf.upload(b"n").id)]
        self.shelf.save("main", edits, base)
        self.put({"logs/a.txt": b"theirs\n"})
        self.shelf.commit_draft("main", "Only the new one", paths=["new.txt"])
        with self.assertRaises(ProblemError) as caught:
            self.shelf.commit_draft("main", "And the log")
        self.assertEqual(caught.exception.code, "branch.moved")
        with self.assertRaises(ProblemError) as caught:
            self.shelf.commit_draft("main", "And the log", merge=True)
        self.assertEqual(caught.exception.code, "merge.conflict")
        self.assertEqual(self.shelf.read("logs/a.txt"), b"theirs\n")


class OfflineTests(unittest.TestCase):
    """A.8: without the service."""

    def setUp(self) -> None:
        self.service = Service()
        self.addCleanup(self.service.stop)
        with self.service.client() as client:
            shelf = client.shelf(client.make_shelf("Offline").key)
            commit_files(shelf, dict(FILES), "First")
            self.key = shelf.key
        self.desk = Terminal(self, self.service)
        self.desk.run("take", self.key, "desk")
        self.desk.folder = self.desk.home / "desk"
        self.service.kill_group()

    def test_what_changed_is_compared_by_meaning(self) -> None:
        self.desk.write("flow.json", b'{"steps": [{"id": "a", "name": "Wait longer"}]}\n')
        found = self.desk.json("compare")
        self.assertEqual([f["after"] for f in found["artifacts"][0]["findings"]], ["Wait longer"])

    def test_changes_are_discarded(self) -> None:
        self.desk.write("flow.json", b"gone wrong")
        self.desk.run("discard", "flow.json")
        self.assertEqual((self.desk.folder / "flow.json").read_bytes(), FILES["flow.json"])

    def test_unsent_commits_are_listed_looked_at_and_dropped(self) -> None:
        self.desk.write("flow.json", b'{"one": 1}')
        self.desk.run("commit", "--summary", "One")
        self.desk.write("flow.json", b'{"two": 2}')
        self.desk.write("new.txt", b"n")
        self.desk.run("commit", "--summary", "Two")
        self.desk.write("data/tides.csv", b"id\n")
        self.desk.run("commit", "--summary", "Three")
        unsent = self.desk.json("pending", "--unsent")["unsent"]
        self.assertEqual([(u["number"], u["summary"]) for u in unsent], [(1, "One"), (2, "Two"), (3, "Three")])
        self.assertEqual([a["path"] for a in unsent[1]["artifacts"]], ["flow.json", "new.txt"])
        self.assertIn("Two", self.desk.run("pending", "--unsent").stdout)
        self.desk.run("discard", "--unsent", "2")
        pending = {a["path"]: a["state"] for a in self.desk.json("pending")["artifacts"]}
        self.assertEqual(pending, {"flow.json": "edited", "new.txt": "new"})
        self.desk.run("discard", "--unsent", "1")
        self.desk.run("discard", "--unsent", "9", code=1)
        self.service.start()
        self.desk.run("commit", "--summary", "All of it")
        with self.service.client() as client:
            summaries = [c.summary for c in client.shelf(self.key).commits()]
            self.assertEqual(client.shelf(self.key).read("flow.json"), b'{"two": 2}')
        self.assertEqual(summaries, ["All of it", "Three", "First"])


class BreakingTests(DeskCase):
    """B.3, on the desk: what is odd is named, and the rest goes on."""

    def test_no_desk_inside_a_desk(self) -> None:
        refused = self.desk.run("take", self.shelf.key, code=1)
        self.assertIn("desk.nested", refused.stderr)
        self.assertFalse((self.desk.folder / self.shelf.key).exists())

    def test_a_name_that_is_not_text_is_blocked(self) -> None:
        Path(os.fsdecode(os.fsencode(self.desk.folder) + b"/caf\xe9.txt")).write_bytes(b"1")
        found = self.desk.json("pending")
        self.assertEqual([(a["path"], a["state"]) for a in found["artifacts"]], [("caf\\xe9.txt", "blocked")])
        self.assertIn("caf\\xe9.txt", self.desk.run("pending").stdout)

    def test_broken_rules_stop_nothing(self) -> None:
        self.desk.write("shelf.toml", b'[ignore]\npatterns = ["*.log"]\n')
        self.desk.run("commit", "--summary", "Rules")
        self.desk.write("a.log", b"ignored")
        self.desk.write("shelf.toml", b"[ignore]\npatterns = [")
        found = {a["path"]: a["state"] for a in self.desk.json("pending")["artifacts"]}
        self.assertEqual(found, {"shelf.toml": "blocked"})
        self.desk.write("new.txt", b"n")
        self.assertIn("shelf.toml", self.desk.run("commit", "--summary", "The rest goes on").stdout)
        self.assertIn("new.txt", self.paths())

    def test_a_desk_on_a_full_disk_says_so_and_goes_on_later(self) -> None:
        commit_files(self.shelf, {f"big/{n}.bin": os.urandom(2_000_000) for n in range(4)}, "Large")
        place = self.desk.home / "small"
        place.mkdir()
        mounted = subprocess.run(["mount", "-t", "tmpfs", "-o", "size=8m", "tmpfs", str(place)], check=False)
        if mounted.returncode:
            self.skipTest("no small file system can be mounted here")
        self.addCleanup(subprocess.run, ["umount", str(place)], check=True)
        refused = self.desk
        refused.folder = place
        said = refused.run("take", self.shelf.key, "desk", code=1).stderr
        self.assertIn("desk.room", said)
        self.assertEqual([p.name for p in (place / "desk").iterdir()], [".everyshelf"], "nothing is half there")
        subprocess.run(["mount", "-o", "remount,size=64m", str(place)], check=True)
        refused.folder = place / "desk"
        refused.run("take")
        self.assertEqual(self.desk.json("pending")["counts"]["same"], 8)
