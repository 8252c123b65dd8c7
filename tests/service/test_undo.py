"""One commit undone while what came later stays, against histories whose edits are known."""

from __future__ import annotations

import json
import random

from everyshelf.client import ChangeRequest, ProblemError
from tests.support.factories import ServiceCase, Terminal


def document(values: dict[str, int]) -> bytes:
    return json.dumps({"settings": values}, indent=2).encode()


class UndoTests(ServiceCase):
    def test_what_came_later_stays(self) -> None:
        """Commits that each set keys of their own: undoing any of them is the history without it."""
        draw = random.Random(61)
        keys = [f"key{number}" for number in range(24)]
        files = {f"s{number}.json": dict.fromkeys(keys, 0) for number in range(3)}
        self.put({path: document(values) for path, values in files.items()}, "First")
        edits: list[tuple[str, dict[str, int]]] = []
        commits: list[str] = []
        free = [(path, key) for path in files for key in keys]
        draw.shuffle(free)
        for number in range(10):
            path = draw.choice(list(files))
            own = [key for where, key in free if where == path][:2]
            free = [one for one in free if one[0] != path or one[1] not in own]
            edit = dict.fromkeys(own, number + 1)
            files[path].update(edit)
            edits.append((path, edit))
            commits.append(self.put({path: document(files[path])}, f"Edit {number}").commit)
        for number in draw.sample(range(10), 4):
            path, edit = edits[number]
            look = self.shelf.undoing(commits[number])
            last = all(other != path for other, _ in edits[number + 1 :])
            self.assertEqual((look.back if last else look.combined, look.open), ([path], []))
            made = self.shelf.undo(commits[number])
            self.assertEqual(made.labels, {"undoes": commits[number][:12]})
            files[path].update(dict.fromkeys(edit, 0))
            self.assertEqual(json.loads(self.shelf.read(path)), {"settings": files[path]})
            self.assertEqual([one.commit for one in self.shelf.commit_places(commits[number]).undone_by], [made.commit])
            with self.assertRaises(ProblemError) as caught:
                self.shelf.undo(commits[number])
            self.assertEqual(caught.exception.code, "commit.empty")
            after = self.shelf.undoing(commits[number])
            self.assertEqual((after.back_count, after.combined_count, after.already), (0, 0, 1))
            edits[number] = (path, {})

    def test_what_was_changed_again_is_settled(self) -> None:
        self.put({"s.json": document({"a": 1, "b": 1}), "n.txt": b"one\n"}, "First")
        wrong = self.put({"s.json": document({"a": 2, "b": 1}), "n.txt": b"two\n"}, "Wrong").commit
        self.put({"s.json": document({"a": 3, "b": 5})}, "Later")
        look = self.shelf.undoing(wrong)
        self.assertEqual((look.back, look.open_count, [a.path for a in look.open]), (["n.txt"], 1, ["s.json"]))
        with self.assertRaises(ProblemError) as caught:
            self.shelf.undo(wrong)
        self.assertEqual((caught.exception.status, caught.exception.code), (409, "merge.conflict"))
        self.assertEqual(self.shelf.read("n.txt"), b"two\n", "nothing is written before it is settled")
        waiting = caught.exception.problem["merge"]
        self.assertEqual(self.shelf.waiting_merge(waiting).source, f"the state before {wrong[:8]}")
        self.shelf.settle(waiting, [{"path": "s.json", "take": "target"}])
        made = self.shelf.finish_merge(waiting)
        self.assertEqual((made.summary, made.merge), ("Undo “Wrong”", False))
        self.assertEqual(json.loads(self.shelf.read("s.json")), {"settings": {"a": 3, "b": 5}})
        self.assertEqual(self.shelf.read("n.txt"), b"one\n")

    def test_added_removed_and_moved_artifacts(self) -> None:
        lines = [b"%d\n" % n for n in range(12)]
        self.put({"a.txt": b"a\n", "old.txt": b"".join(lines)}, "First")
        edited = [b"edited\n" if n < 6 else line for n, line in enumerate(lines)]
        contents = {"new": b"new\n", "moved": b"".join(edited)}
        ids = {name: self.shelf.upload(data).id for name, data in contents.items()}
        changes = [
            ChangeRequest("new.txt", ids["new"]),
            ChangeRequest("a.txt", None),
            ChangeRequest("folder/moved.txt", ids["moved"], "old.txt"),
        ]
        wrong = self.shelf.commit("main", self.shelf.branch("main").head, changes, "Tidied").commit
        self.put({"other.txt": b"other\n", "folder/moved.txt": b"".join([*edited, b"more\n"])}, "Later")
        self.shelf.undo(wrong)
        self.assertEqual(sorted(a.path for a in self.shelf.artifacts()), ["a.txt", "old.txt", "other.txt"])
        self.assertEqual(self.shelf.read("old.txt"), b"".join([*lines, b"more\n"]))
        self.assertEqual(self.shelf.history("old.txt")[0].moved_from, "folder/moved.txt")

    def test_a_merge_and_an_undoing_are_undone(self) -> None:
        self.put({"s.json": document({"a": 1, "b": 1})}, "First")
        self.shelf.make_branch("try", "main")
        self.put({"s.json": document({"a": 2, "b": 1})}, "Tried", branch="try")
        self.put({"s.json": document({"a": 1, "b": 2})}, "Meanwhile")
        merged = self.shelf.merge("try", "main").commit
        assert merged is not None
        undone = self.shelf.undo(merged)
        self.assertEqual(json.loads(self.shelf.read("s.json")), {"settings": {"a": 1, "b": 2}})
        self.shelf.undo(undone.commit, summary="After all")
        self.assertEqual(json.loads(self.shelf.read("s.json")), {"settings": {"a": 2, "b": 2}})

    def test_where_it_cannot_be(self) -> None:
        self.put({"a.txt": b"a\n"}, "First")
        self.shelf.make_branch("try", "main")
        aside = self.put({"a.txt": b"b\n"}, "Aside", branch="try").commit
        with self.assertRaises(ProblemError) as caught:
            self.shelf.undo(aside)
        self.assertEqual((caught.exception.status, caught.exception.code), (400, "undo.elsewhere"))
        self.shelf.guard_branch("try")
        self.shelf.set_member("author", "author")
        theirs = self.client_of("author").shelf(self.shelf.key)
        self.assertFalse(theirs.undoing(aside, "try").allowed)
        with self.assertRaises(ProblemError) as caught:
            theirs.undo(aside, "try")
        self.assertEqual(caught.exception.status, 403)

    def test_the_command_line(self) -> None:
        self.put({"a.txt": b"a\n", "s.json": document({"a": 1, "b": 1})}, "First")
        wrong = self.put({"a.txt": b"b\n", "s.json": document({"a": 2, "b": 1})}, "Wrong").commit
        self.put({"s.json": document({"a": 2, "b": 7})}, "Later")
        terminal = Terminal(self, self.service)
        terminal.set("EVERYSHELF_SHELF", self.shelf.key)
        said = terminal.run("undo", wrong[:10], "--show").stdout
        self.assertIn("2 artifacts would change", said)
        self.assertRegex(said, r"1 artifact back to before it:\s+a\.txt")
        self.assertRegex(said, r"1 artifact changed since; later changes stay:\s+s\.json")
        self.assertEqual(len(list(self.shelf.commits("main"))), 3, "--show writes nothing")
        self.assertIn(f"Undid {wrong[:8]}", terminal.run("undo", wrong[:10]).stdout)
        self.assertEqual(self.shelf.read("a.txt"), b"a\n")
        self.assertIn("undone by", terminal.run("history", "--commit", wrong[:10]).stdout)
        again = self.put({"s.json": document({"a": 9, "b": 7})}, "Nine").commit
        self.put({"s.json": document({"a": 10, "b": 7})}, "Ten")
        self.assertIn("(merge.conflict)", terminal.run("undo", again[:10], code=3).stderr)
        self.assertIn("(commit.empty)", terminal.run("undo", again[:10], "--prefer", "target", code=1).stderr)
