"""Links that lay the parts of files beside them or instead of them."""

from __future__ import annotations

import io
import json
import zipfile
from typing import Any

from everyshelf.client import ProblemError
from tests.service.test_git_links import LinkCase
from tests.support.factories import Terminal, commit_files
from tests.support.git import GitServer, run_git
from tests.support.waiting import until

_CELLS = "timetable.ipynb.unfolded/cells"


def notebook(*sources: str) -> bytes:
    """A notebook with a cell of code for each text; its outputs stay in the frame."""
    cells = [
        {"cell_type": "code", "execution_count": n, "metadata": {}, "outputs": [], "source": text.splitlines(True)}
        for n, text in enumerate(sources, 1)
    ]
    whole = {"cells": cells, "metadata": {"kernelspec": {"language": "python"}}, "nbformat": 4, "nbformat_minor": 5}
    return json.dumps(whole, indent=1).encode() + b"\n"


def archive(**members: str) -> bytes:
    """A zip."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as made:
        for name, text in members.items():
            made.writestr(zipfile.ZipInfo(f"{name}.txt", (2026, 1, 1, 0, 0, 0)), text)
    return out.getvalue()


FIRST = notebook("import tide\n", "wait = 4\nprint(wait)\n", "print('late')\n")


class UnfoldedCase(LinkCase):
    """A shelf with a notebook and a colleague who reads parts in Git."""

    parts = "beside"

    def setUp(self) -> None:
        super().setUp()
        self.put({"timetable.ipynb": FIRST, "plans.zip": archive(one="1\n", two="2\n")}, "Notebook")

    def link(self, parts: str = "", **settings: Any) -> None:
        self.shelf.make_git_link("office", str(self.bare), parts=parts or self.parts, **settings)

    def files(self) -> dict[str, bytes]:
        return GitServer.files(self.bare, "main")

    def source(self, number: int) -> str:
        cells = json.loads(self.shelf.read("timetable.ipynb"))["cells"]
        return "".join(cells[number - 1]["source"])

    def state(self) -> tuple[str, str]:
        line = self.shelf.git_link("office").link.lines[0]
        return line.state, line.why

    def both(self) -> None:
        self.fetch()
        self.send()


class BesideTests(UnfoldedCase):
    """A file and its parts."""

    def test_parts_lie_beside_and_edits_of_them_fold_back(self) -> None:
        self.link()
        self.assertEqual(self.shelf.test_git_link("office").would_send, 2)
        self.send()
        there = self.files()
        self.assertEqual(there["timetable.ipynb"], FIRST)
        self.assertEqual(there[f"{_CELLS}/002.py"], b"wait = 4\nprint(wait)\n")
        self.assertIn("plans.zip.unfolded/members/one.txt", there)
        self.assertFalse(any(name.startswith(("data/fares.csv.u", "apps/board.json.u")) for name in there))
        clone = self.clone()
        self.work(clone, {f"{_CELLS}/002.py": b"wait = 9\nprint(wait)\n"}, "Wait longer")
        self.both()
        self.assertEqual(self.source(2), "wait = 9\nprint(wait)\n")
        self.assertEqual(next(iter(self.shelf.commits())).summary, "Wait longer")
        # The file in Git says it, too, in a commit of the service.
        self.assertEqual(self.state(), ("in step", ""))
        self.assertEqual(self.files()["timetable.ipynb"], self.shelf.read("timetable.ipynb"))
        self.assertEqual(run_git("log", "-1", "--format=%an", "main", folder=self.bare).stdout.strip(), "everyshelf")
        before = self.shelf.branch("main").head, self.tip()
        for _ in range(2):
            self.both()
        self.assertEqual((self.shelf.branch("main").head, self.tip()), before)
        run_git("fsck", "--strict", folder=self.bare)

    def test_an_edited_file_gets_its_parts(self) -> None:
        self.link()
        self.send()
        edited = notebook("import tide\n", "wait = 5\n", "print('late')\n")
        self.work(self.clone(), {"timetable.ipynb": edited}, "In a notebook program")
        self.both()
        self.assertEqual(self.shelf.read("timetable.ipynb"), edited)
        self.assertEqual(self.files()[f"{_CELLS}/002.py"], b"wait = 5\n")
        self.put({"timetable.ipynb": notebook("import tide\n", "wait = 5\n")}, "On the shelf")
        self.send()
        self.assertNotIn(f"{_CELLS}/003.py", self.files())
        self.assertEqual(self.state(), ("in step", ""))

    def test_a_file_and_its_parts_both_edited_are_merged(self) -> None:
        self.link()
        self.send()
        edited = notebook("import tide\n", "wait = 4\nprint(wait)\n", "print('on time')\n")
        files = {"timetable.ipynb": edited, f"{_CELLS}/001.py": b"import tide, sea\n"}
        self.work(self.clone(), files, "Both")
        self.both()
        self.assertEqual((self.source(1), self.source(3)), ("import tide, sea\n", "print('on time')\n"))
        self.assertEqual(self.files()[f"{_CELLS}/003.py"], b"print('on time')\n")
        self.assertEqual(self.state(), ("in step", ""))

    def test_where_they_do_not_go_together_it_waits(self) -> None:
        self.link()
        self.send()
        edited = notebook("import tide\n", "wait = 7\n", "print('late')\n")
        self.work(self.clone(), {"timetable.ipynb": edited, f"{_CELLS}/002.py": b"wait = 8\n"}, "Both")
        self.both()
        self.assertEqual(self.source(2), "wait = 7\n")
        line = self.shelf.git_link("office").link.lines[0]
        self.assertEqual((line.state, bool(line.merge)), ("diverged", True))
        self.assertEqual(self.files()[f"{_CELLS}/002.py"], b"wait = 8\n")  # nothing is laid over it meanwhile
        merge = self.shelf.waiting_merge(line.merge)
        conflict = merge.artifacts[0].conflicts[0].id
        self.both()
        self.assertEqual(self.shelf.git_link("office").link.lines[0].merge, merge.id)
        self.shelf.settle(merge.id, [{"path": "timetable.ipynb", "conflict": conflict, "take": "source"}])
        self.shelf.finish_merge(merge.id)
        self.both()
        self.assertEqual((self.source(2), self.state()), ("wait = 8\n", ("in step", "")))
        self.assertEqual(self.files()["timetable.ipynb"], self.shelf.read("timetable.ipynb"))
        self.assertEqual([branch.name for branch in self.shelf.branches()], ["main"])

    def test_a_folder_of_such_a_name_on_the_shelf_is_a_folder(self) -> None:
        self.put({"plans.zip.unfolded/mine.txt": b"mine\n"}, "Mine")
        self.link()
        self.send()
        self.assertEqual(self.files()["plans.zip.unfolded/mine.txt"], b"mine\n")
        self.assertNotIn("plans.zip.unfolded/fold.json", self.files())
        self.work(self.clone(), {"plans.zip.unfolded/mine.txt": b"ours\n"}, "Ours")
        self.both()
        self.assertEqual(self.shelf.read("plans.zip.unfolded/mine.txt"), b"ours\n")
        self.assertEqual(self.shelf.read("plans.zip"), archive(one="1\n", two="2\n"))

    def test_a_person_adds_a_file_to_the_parts(self) -> None:
        self.link()
        self.send()
        clone = self.clone()
        self.work(clone, {f"{_CELLS}/notes.md": b"mine\n", "plans.zip.unfolded/members/three.txt": b"3\n"}, "More")
        self.both()
        with zipfile.ZipFile(io.BytesIO(self.shelf.read("plans.zip"))) as plans:
            self.assertEqual(plans.read("three.txt"), b"3\n")
        self.assertIn("notes.md", self.state()[1])
        self.put({"timetable.ipynb": notebook("import tide\n")}, "Shorter")
        self.send()
        self.assertEqual(self.files()[f"{_CELLS}/notes.md"], b"mine\n")


class InsteadTests(UnfoldedCase):
    """Parts alone."""

    parts = "instead"

    def test_only_parts_lie_there(self) -> None:
        self.link()
        self.send()
        self.assertNotIn("timetable.ipynb", self.files())
        self.assertNotIn("plans.zip", self.files())
        self.work(self.clone(), {f"{_CELLS}/001.py": b"import sea\n"}, "Sea")
        self.both()
        self.assertEqual(self.source(1), "import sea\n")
        log = run_git("log", "--format=%s", "main", folder=self.bare).stdout.splitlines()
        self.assertEqual(log, ["Sea", "Notebook", "First"])
        self.assertEqual(self.state(), ("in step", ""))

    def test_parts_that_cannot_be_folded_stay_until_they_can(self) -> None:
        self.link()
        self.send()
        clone = self.clone()
        frame = "timetable.ipynb.unfolded/timetable.json"
        good = self.files()[frame]
        self.work(clone, {frame: b"{", "data/fares.csv": b"zone,fare\nZ1,9\n"}, "Broken")
        self.both()
        self.assertEqual(self.shelf.read("timetable.ipynb"), FIRST)
        self.assertEqual(self.shelf.read("data/fares.csv"), b"zone,fare\nZ1,9\n")
        state, why = self.state()
        self.assertEqual(state, "in step")
        self.assertIn("timetable.ipynb.unfolded", why)
        self.put({"apps/board.json": b"{}\n"}, "Elsewhere")
        self.send()
        self.assertEqual(self.files()[frame], b"{")
        run_git("pull", "-q", folder=clone)
        self.work(clone, {frame: good, f"{_CELLS}/001.py": b"import sea\n"}, "Well again")
        self.both()
        self.assertEqual((self.source(1), self.state()), ("import sea\n", ("in step", "")))

    def test_moved_removed_and_added(self) -> None:
        self.link()
        self.send()
        clone = self.clone()
        run_git("mv", "timetable.ipynb.unfolded", "plan.ipynb.unfolded", folder=clone)
        run_git("rm", "-q", "-r", "plans.zip.unfolded", folder=clone)
        self.work(clone, {}, "Moved and removed")
        self.both()
        paths = {row.path for row in self.shelf.artifacts()}
        self.assertEqual(paths, {"apps/board.json", "data/fares.csv", "plan.ipynb"})
        self.assertEqual(self.shelf.read("plan.ipynb"), FIRST)
        self.put({"new.ipynb": notebook("a = 1\n")}, "New")
        self.send()
        self.assertIn("new.ipynb.unfolded/cells/001.py", self.files())
        self.assertEqual(self.state(), ("in step", ""))

    def test_fetched_into_another_shelf_it_is_the_same(self) -> None:
        self.link()
        self.put({"timetable.ipynb": notebook("import sea\n")}, "Sea")
        self.shelf.make_tag("spring-1")
        self.send()
        other = self.client.shelf(self.client.make_shelf("Second").key)
        self.client.share_location(str(self.bare), other.key)
        other.make_git_link("office", str(self.bare), parts="instead")
        self.done(other.fetch_git_link("office"), other)
        for path in ("timetable.ipynb", "plans.zip", "data/fares.csv"):
            self.assertEqual(other.read(path), self.shelf.read(path))
        self.assertEqual([c.summary for c in other.commits()], [c.summary for c in self.shelf.commits()])
        self.assertEqual(other.read("timetable.ipynb", "tag:spring-1"), notebook("import sea\n"))
        before = self.tip()
        self.done(other.send_git_link("office"), other)
        self.assertEqual((self.tip(), other.git_link("office").link.state), (before, "in step"))
        # Both go on: one history.
        other_files = {"timetable.ipynb": notebook("import sea\n", "b = 2\n")}
        commit_files(other, other_files, "Second shelf")
        self.done(other.send_git_link("office"), other)
        self.both()
        self.assertEqual(self.source(2), "b = 2\n")
        self.assertEqual(len(list(self.shelf.commits())), len(list(other.commits())))


class ChangingTests(UnfoldedCase):
    """A link that has sent and fetched changes how the parts lie."""

    def test_each_way_of_laying_them(self) -> None:
        self.link("none")
        self.work(self.clone(), {"README.md": b"Office\n"}, "Of the office")
        self.both()
        count, ids = len(list(self.shelf.commits())), run_git("rev-list", "main", folder=self.bare).stdout.split()
        for parts, file, folder in (("beside", True, True), ("instead", False, True), ("none", True, False)):
            with self.subTest(parts=parts):
                self.assertEqual(self.shelf.change_git_link("office", parts=parts).parts, parts)
                self.both()
                there = self.files()
                self.assertEqual(("timetable.ipynb" in there, f"{_CELLS}/001.py" in there), (file, folder))
                self.assertEqual(self.state(), ("in step", ""))
        self.assertEqual(len(list(self.shelf.commits())), count)
        now = run_git("rev-list", "main", folder=self.bare).stdout.split()
        self.assertEqual((now[-len(ids) :], len(now)), (ids, len(ids) + 3))

    def test_a_link_that_only_sends_goes_on_where_it_was(self) -> None:
        self.shelf.make_tag("spring-1")
        self.link("none", way="send")
        self.send()
        before = self.tip()
        self.shelf.change_git_link("office", parts="beside")
        self.send()
        self.assertEqual(self.state(), ("in step", ""))
        self.assertIn(f"{_CELLS}/001.py", self.files())
        self.assertEqual(self.tip("main~1"), before)
        self.assertEqual(self.tip("spring-1^{commit}"), before)

    def test_removed_and_made_again_nothing_comes_twice(self) -> None:
        self.link("instead")
        self.both()
        self.work(self.clone(), {f"{_CELLS}/001.py": b"import sea\n"}, "Sea")
        self.both()
        before, count = self.tip(), len(list(self.shelf.commits()))
        self.shelf.remove_git_link("office")
        self.link("instead")
        self.shelf.test_git_link("office")
        self.both()
        self.assertEqual((self.tip(), len(list(self.shelf.commits()))), (before, count))

    def test_one_notebook_alone(self) -> None:
        self.link("beside", folder="timetable.ipynb", place="books/timetable.ipynb")
        self.work(self.clone(), {"books/other.ipynb": FIRST, "main.c": b"int main;\n"}, "Theirs")
        self.both()
        self.assertEqual(self.files()[f"books/{_CELLS}/001.py"], b"import tide\n")
        self.assertNotIn("books/other.ipynb.unfolded/fold.json", self.files())
        clone = self.clone("again")
        self.work(clone, {f"books/{_CELLS}/001.py": b"import sea\n"}, "Sea")
        self.both()
        self.assertEqual(self.source(1), "import sea\n")
        self.assertEqual(self.files()["books/timetable.ipynb"], self.shelf.read("timetable.ipynb"))

    def test_wrong_words_are_told(self) -> None:
        with self.assertRaises(ProblemError) as caught:
            self.link("around")
        self.assertEqual(caught.exception.status, 400)

    def test_on_the_command_line(self) -> None:
        terminal = Terminal(self, self.service)
        terminal.set("EVERYSHELF_SHELF", self.shelf.key)
        made = terminal.run("git-link", "make", "office", str(self.bare), "--parts", "beside", "--follow").stdout
        self.assertIn("Made the link office", made)
        until(lambda: terminal.run("git-link", "show", "office").stdout.startswith("office: in step"), "parts in Git")
        self.assertIn(f"{_CELLS}/001.py", self.files())
        self.assertIn("parts of files lie beside them", terminal.run("git-link", "show", "office").stdout)
