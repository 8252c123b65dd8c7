"""Links of one folder or one artifact."""

from __future__ import annotations

from pathlib import Path

from everyshelf.client import ProblemError
from tests.service.test_git_links import LinkCase
from tests.support.factories import Terminal
from tests.support.git import GitServer, run_git

_FIRST = b"zone,fare\nZ1,4\nZ2,5\nZ3,6\n"


class PartTests(LinkCase):
    """One part of a shelf, and a colleague who has nothing else."""

    def summaries(self, branch: str = "main") -> list[str]:
        return run_git("log", "--format=%s", "--topo-order", branch, folder=self.bare).stdout.splitlines()

    def files(self, branch: str = "main") -> dict[str, bytes]:
        return GitServer.files(self.bare, branch)

    def state(self) -> str:
        return self.shelf.git_link("office").link.state

    def test_a_folder_is_the_root_there_and_back(self) -> None:
        made = self.shelf.make_git_link("office", str(self.bare), folder="data")
        self.assertEqual((made.folder, made.place, made.tags), ("data", "", False))
        self.put({"apps/board.json": b'{"a": 2}\n'}, "Not for them")
        self.put({"data/old/tides.csv": b"t\n1\n"}, "Tides")
        self.assertEqual(self.shelf.test_git_link("office").would_send, 2)
        self.send()
        self.assertEqual(self.files(), {"fares.csv": _FIRST, "old/tides.csv": b"t\n1\n"})
        self.assertEqual(self.summaries(), ["Tides", "First"])
        clone = self.clone()
        self.work(clone, {"fares.csv": _FIRST.replace(b"Z1,4", b"Z1,9"), "new.csv": b"n\n1\n"}, "Of the colleague")
        self.put({"data/fares.csv": _FIRST.replace(b"Z3,6", b"Z3,7"), "apps/board.json": b"{}\n"}, "Of the shelf")
        self.fetch()
        merged = _FIRST.replace(b"Z1,4", b"Z1,9").replace(b"Z3,6", b"Z3,7")
        self.assertEqual(self.shelf.read("data/fares.csv"), merged)
        self.assertEqual(self.shelf.read("data/new.csv"), b"n\n1\n")
        self.assertEqual(self.shelf.read("apps/board.json"), b"{}\n")
        self.send()
        self.assertEqual(self.state(), "in step")
        self.assertEqual(self.files()["fares.csv"], merged)
        self.assertNotIn("board.json", " ".join(self.files()))
        shown = self.shelf.git_link("office")
        commits = {c.commit for c in self.shelf.commits()}
        self.assertTrue({one.commit for one in shown.transfers} <= commits)
        before, git = self.shelf.branch("main").head, self.tip()
        for _ in range(2):
            self.fetch()
            self.send()
        self.assertEqual((self.shelf.branch("main").head, self.tip()), (before, git))

    def test_an_artifact_alone(self) -> None:
        made = self.shelf.make_git_link("office", str(self.bare), folder="data/fares.csv")
        self.assertEqual(made.place, "fares.csv")
        self.send()
        self.assertEqual(self.files(), {"fares.csv": _FIRST})
        clone = self.clone()
        self.work(clone, {"fares.csv": _FIRST.replace(b"Z2,5", b"Z2,8"), "README.md": b"Ours\n"}, "Dearer")
        self.fetch()
        self.assertEqual(self.shelf.read("data/fares.csv"), _FIRST.replace(b"Z2,5", b"Z2,8"))
        self.assertEqual({row.path for row in self.shelf.artifacts()}, {"data/fares.csv", "apps/board.json"})
        self.put({"data/fares.csv": _FIRST}, "Back")
        self.send()
        self.assertEqual(self.files(), {"fares.csv": _FIRST, "README.md": b"Ours\n"})
        self.assertEqual(self.state(), "in step")

    def test_a_place_in_a_repository_that_holds_other_things(self) -> None:
        clone = self.clone()
        self.work(clone, {"src/main.c": b"int main;\n", "README.md": b"One\n"}, "Program")
        self.shelf.make_git_link("office", str(self.bare), folder="data", place="shared/fares")
        self.fetch()
        self.send()
        self.assertEqual(self.files()["shared/fares/fares.csv"], _FIRST)
        self.assertEqual(self.files()["src/main.c"], b"int main;\n")
        count = len(list(self.shelf.commits()))
        run_git("pull", "-q", folder=clone)
        for number in range(3):
            self.work(clone, {"README.md": b"%d\n" % number}, f"Program {number}")
        self.put({"data/fares.csv": _FIRST + b"Z4,7\n"}, "Zone 4")
        self.fetch()
        self.send()
        self.assertEqual(self.state(), "in step")
        self.assertEqual(len(list(self.shelf.commits())), count + 1)  # what is not theirs makes no commit here
        self.assertEqual(self.files()["README.md"], b"2\n")
        self.assertEqual(self.files()["shared/fares/fares.csv"], _FIRST + b"Z4,7\n")
        run_git("fsck", "--strict", folder=self.bare)

    def test_a_folder_that_collides_with_a_file_there(self) -> None:
        self.work(self.clone(), {"shared": b"a file\n"}, "A file")
        self.shelf.make_git_link("office", str(self.bare), folder="data", place="shared/fares")
        with self.assertRaises(ProblemError) as caught:
            self.fetch()
        self.assertEqual(caught.exception.code, "git.collides")
        self.assertIn("data cannot be at shared/fares", str(caught.exception))
        self.assertEqual(self.state(), "refused")
        self.send()
        self.assertEqual((self.state(), self.files()), ("diverged", {"shared": b"a file\n"}))

    def test_a_conflict_waits_on_the_shelf(self) -> None:
        self.shelf.make_git_link("office", str(self.bare), folder="data")
        self.send()
        clone = self.clone()
        self.work(clone, {"fares.csv": _FIRST.replace(b"Z1,4", b"Z1,9")}, "Theirs")
        self.put({"data/fares.csv": _FIRST.replace(b"Z1,4", b"Z1,3")}, "Ours")
        self.fetch()
        link = self.shelf.git_link("office").link
        self.assertEqual((link.state, link.lines[0].ahead, link.lines[0].behind), ("diverged", 1, 1))
        merge = self.shelf.waiting_merge(link.lines[0].merge)
        conflict = merge.artifacts[0].conflicts[0].id
        self.shelf.settle(merge.id, [{"path": "data/fares.csv", "conflict": conflict, "take": "source"}])
        self.shelf.finish_merge(merge.id)
        self.send()
        self.assertEqual(self.state(), "in step")
        self.assertEqual(self.files()["fares.csv"], _FIRST.replace(b"Z1,4", b"Z1,9"))

    def test_branches_merges_and_moves(self) -> None:
        self.shelf.make_branch("summer")
        self.put({"data/fares.csv": _FIRST + b"Z4,7\n"}, "Summer", "summer")
        self.put({"apps/board.json": b"{}\n"}, "Board")
        self.shelf.merge("summer", "main", summary="Summer comes")
        self.shelf.make_branch("boards")
        self.put({"apps/board.json": b"[]\n"}, "Only the board", "boards")
        self.shelf.merge("boards", "main", summary="The board comes")
        self.shelf.make_git_link("office", str(self.bare), folder="data")
        self.send()
        self.assertEqual(self.summaries(), ["Summer", "First"])  # nothing else was done to the folder
        self.assertEqual(self.tip("summer"), self.tip("boards"))
        clone = self.clone()
        run_git("mv", "fares.csv", "prices.csv", folder=clone)
        run_git("commit", "-q", "-m", "Another name", folder=clone)
        run_git("push", "-q", folder=clone)
        self.fetch()
        found = {row.path: row.version for row in self.shelf.artifacts()}
        self.assertEqual(found["data/prices.csv"], 3)
        self.assertEqual(self.state(), "in step")

    def test_removed_and_made_again_it_brings_nothing_twice(self) -> None:
        self.shelf.make_git_link("office", str(self.bare), folder="data")
        self.send()
        clone = self.clone()
        self.work(clone, {"fares.csv": _FIRST.replace(b"Z2,5", b"Z2,8")}, "Dearer")
        self.fetch()
        head, git = self.shelf.branch("main").head, self.tip()
        self.shelf.remove_git_link("office")
        self.shelf.make_git_link("office", str(self.bare), folder="data")
        self.fetch()
        self.send()
        self.assertEqual(self.state(), "in step")
        self.assertEqual(self.shelf.branch("main").head, head)
        self.assertIn(git, run_git("rev-list", "main", folder=self.bare).stdout)
        self.assertEqual(self.files(), {"fares.csv": _FIRST.replace(b"Z2,5", b"Z2,8")})

    def test_no_person_sees_the_side_and_bad_places_are_told(self) -> None:
        for said, code in (
            ({"folder": "../x"}, "path.invalid"),
            ({"folder": "data", "place": "/x"}, "path.invalid"),
            ({"place": "x"}, "link.place_there"),
        ):
            with self.subTest(said), self.assertRaises(ProblemError) as caught:
                self.shelf.make_git_link("office", str(self.bare), **said)
            self.assertEqual(caught.exception.code, code)
        seen = len(self.client.shelves())
        terminal = Terminal(self, self.service)
        terminal.set("EVERYSHELF_SHELF", self.shelf.key)
        said = terminal.run("git-link", "make", "office", str(self.bare), "--folder", "data", "--place", "x/y").stdout
        self.assertIn("Made the link office of data", said)
        terminal.run("git-link", "send", "office")
        self.assertIn("only data, in x/y there; without tags", terminal.run("git-link", "show", "office").stdout)
        self.assertEqual(set(self.files()), {"x/y/fares.csv"})
        self.assertEqual(len(self.client.shelves()), seen)
        self.assertTrue(Path(self.bare).is_dir())
        self.shelf.remove_git_link("office")
