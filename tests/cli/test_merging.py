"""``merge-files``, ``merge`` and ``settle``, run as real processes."""

from __future__ import annotations

import json
import sys

from tests.service.test_merging import MergingCase, flow
from tests.support.factories import Terminal


class TerminalCase(MergingCase):
    def setUp(self) -> None:
        super().setUp()
        self.terminal = Terminal(self, self.service)


class MergeFilesTests(TerminalCase):
    """Three files, no service."""

    def files(self, this: bytes, other: bytes) -> tuple[str, ...]:
        for name, data in (("base.json", flow()), ("this.json", this), ("other.json", other)):
            self.terminal.write(name, data)
        return "merge-files", "base.json", "this.json", "other.json", "--output", "out.json"

    def test_edits_to_different_steps_are_put_together(self) -> None:
        command = self.files(flow(weigh_timeout=45), flow(sail_run="go.py"))
        self.assertIn("Merged as pipeline: 2 changes of both sides", self.terminal.run(*command).stdout)
        self.assertEqual((self.terminal.folder / "out.json").read_bytes(), flow(weigh_timeout=45, sail_run="go.py"))
        self.assertEqual(
            self.terminal.json(*command),
            {"merged": True, "kind": "pipeline", "read_as": "pipeline", "conflicts": [], "combined": 2, "notes": []},
        )

    def test_conflicts_end_with_three_and_write_nothing(self) -> None:
        command = self.files(flow(weigh_timeout=45), flow(weigh_timeout=60))
        done = self.terminal.run(*command, code=3)
        self.assertIn("Step “weigh”: timeout was 30; on the target it is 45, on the source 60", done.stdout)
        self.assertIn("out.json was not written", done.stderr)
        found = self.terminal.json(*command, code=3)
        self.assertFalse(found["merged"])
        self.assertEqual([(c["part"], c["field"]) for c in found["conflicts"]], [("/step:weigh", "timeout")])
        self.assertEqual(
            sorted(p.name for p in self.terminal.folder.glob("*.json")), ["base.json", "other.json", "this.json"]
        )

    def test_a_preference_settles(self) -> None:
        self.terminal.run(*self.files(flow(weigh_timeout=45), flow(weigh_timeout=60)), "--prefer", "source")
        self.assertEqual((self.terminal.folder / "out.json").read_bytes(), flow(weigh_timeout=60))

    def test_wrong_usage_is_told(self) -> None:
        command = self.files(flow(), flow())
        self.assertIn("is not a kind", self.terminal.run(*command, "--kind", "none", code=2).stderr)
        self.assertIn("does not exist", self.terminal.run("merge-files", "a", "b", "c", "--output", "d", code=2).stderr)


class SettleTests(TerminalCase):
    """A merge that waits, settled in the terminal."""

    def conflict(self) -> tuple[str, ...]:
        self.split(
            {"flow.json": flow()},
            {"flow.json": flow(weigh_timeout=45, load_run="a.py")},
            {"flow.json": flow(weigh_timeout=60, load_run="b.py", sail_timeout=1)},
        )
        done = self.terminal.run("merge", "try", "--shelf", self.shelf.key, code=3)
        self.assertIn("timeout was 30; on main it is 45, on try 60", done.stderr)
        return "--shelf", self.shelf.key

    def test_a_conflict_is_settled_by_its_number_and_another_by_a_value(self) -> None:
        where = self.conflict()
        shown = self.terminal.run("settle", *where).stdout
        self.assertIn("try into main: 2 conflicts to settle", shown)
        self.assertIn("Step “weigh”: timeout was 30", shown)
        self.assertIn(
            "1 conflict to settle", self.terminal.run("settle", "flow.json", "1", "--take", "source", *where).stdout
        )
        refused = self.terminal.run("settle", "--finish", *where, code=3)
        self.assertIn("1 conflict to settle", refused.stderr)
        done = self.terminal.run("settle", "flow.json", "/step:load#run", "--value", "c.py", *where).stdout
        self.assertIn("everything is settled", done)
        self.assertIn("Merged try into main", self.terminal.run("settle", "--finish", *where).stdout)
        self.assertEqual(self.shelf.read("flow.json"), flow(weigh_timeout=60, load_run="c.py", sail_timeout=1))
        self.assertIn("No open merge", self.terminal.run("settle", *where).stdout)

    def test_json_is_one_document(self) -> None:
        where = self.conflict()
        found = self.terminal.json("settle", *where)
        self.assertEqual((found["open"], found["artifacts"][0]["path"]), (2, "flow.json"))
        found = self.terminal.json("settle", "--take", "target", *where)
        self.assertEqual(found["open"], 0)
        self.assertIn("commit", self.terminal.json("settle", "--finish", *where))
        self.assertEqual(self.terminal.json("settle", *where), {"merges": []})

    def test_a_program_of_ones_own_puts_an_artifact_together(self) -> None:
        where = self.conflict()
        script = "import sys,pathlib; b,t,o,r=sys.argv[1:]; pathlib.Path(r).write_bytes(pathlib.Path(o).read_bytes())"
        self.terminal.write("join.py", script.encode())
        self.terminal.set(
            "EVERYSHELF_MERGE_PROGRAM", f"{sys.executable} join.py {{base}} {{target}} {{source}} {{output}}"
        )
        self.assertIn("everything is settled", self.terminal.run("settle", "flow.json", "--program", *where).stdout)
        self.terminal.run("settle", "--finish", "--summary", "By hand", *where)
        self.assertEqual(self.shelf.read("flow.json"), flow(weigh_timeout=60, load_run="b.py", sail_timeout=1))
        self.assertEqual(next(self.shelf.commits()).summary, "By hand")

    def program(self, code: str) -> None:
        """What settles: ``b``, ``t``, ``o`` and ``r`` are the files for base, target, source and result."""
        script = f"import json,sys,pathlib; b,t,o,r=map(pathlib.Path,sys.argv[1:]); {code}"
        self.terminal.write("join.py", script.encode())
        command = f"{sys.executable} join.py {{base}} {{target}} {{source}} {{output}}"
        self.terminal.set("EVERYSHELF_MERGE_PROGRAM", command)

    def test_a_program_that_changes_nothing_settles_nothing(self) -> None:
        where = self.conflict()
        self.program("pass")
        done = self.terminal.run("settle", "flow.json", "--program", *where, code=1)
        self.assertIn("left flow.json as it was merged so far; nothing was settled", done.stderr)
        self.assertEqual(self.terminal.json("settle", *where)["open"], 2)

    def test_a_program_begins_with_what_is_merged_and_settled(self) -> None:
        """Its result keeps what the source added without any conflict, and what was decided before."""
        where = self.conflict()
        self.terminal.run("settle", "flow.json", "/step:load#run", "--take", "source", *where)
        self.program("r.write_text(r.read_text().replace('45','50'))")
        self.assertIn("everything is settled", self.terminal.run("settle", "flow.json", "--program", *where).stdout)
        self.terminal.run("settle", "--finish", *where)
        self.assertEqual(self.shelf.read("flow.json"), flow(weigh_timeout=50, load_run="b.py", sail_timeout=1))

    def test_a_result_that_loses_what_a_side_changed_is_refused(self) -> None:
        where = self.conflict()
        self.program("r.write_text(t.read_text().replace('45','50'))")  # without the source's step
        done = self.terminal.run("settle", "flow.json", "--program", *where, code=1)
        self.assertIn("flow.json lacks what was changed elsewhere: sail", done.stderr)
        self.program("r.write_text('{')")
        done = self.terminal.run("settle", "flow.json", "--program", *where, code=1)
        self.assertIn("flow.json could no longer be read as a pipeline", done.stderr)
        self.assertEqual(self.terminal.json("settle", *where)["open"], 2)

    def test_neither_side_may_be_the_answer(self) -> None:
        where = self.conflict()
        self.program("d=r.read_text(); r.write_text(d.replace('45','30').replace('a.py','x.py'))")
        self.assertIn("everything is settled", self.terminal.run("settle", "flow.json", "--program", *where).stdout)

    def test_what_comes_after_an_artifact_was_put_together_is_not_lost(self) -> None:
        where = self.conflict()
        self.program("r.write_text(r.read_text().replace('45','50').replace('a.py','x.py'))")
        self.assertIn("everything is settled", self.terminal.run("settle", "flow.json", "--program", *where).stdout)
        later = flow(weigh_timeout=45, load_run="a.py", sail_run="late.py")
        self.put({"flow.json": later}, "Meanwhile")
        refused = self.terminal.run("settle", "--finish", *where, code=3)
        self.assertIn("to settle", refused.stderr)
        self.assertIn("everything is settled", self.terminal.run("settle", "flow.json", "--program", *where).stdout)
        self.terminal.run("settle", "--finish", *where)
        self.assertEqual(
            self.shelf.read("flow.json"), flow(weigh_timeout=50, load_run="x.py", sail_timeout=1, sail_run="late.py")
        )

    def test_giving_up_and_wrong_names_are_told(self) -> None:
        where = self.conflict()
        self.assertIn(
            "has nothing to settle", self.terminal.run("settle", "none.json", "--take", "target", *where, code=2).stderr
        )
        self.assertIn(
            "cannot go",
            self.terminal.run("settle", "flow.json", "1", "--take", "target", "--value", "x", *where, code=2).stderr,
        )
        self.assertIn(
            "EVERYSHELF_MERGE_PROGRAM", self.terminal.run("settle", "flow.json", "--program", *where, code=2).stderr
        )
        self.assertIn("abandoned", self.terminal.run("settle", "--abandon", *where).stdout)
        self.assertEqual(self.shelf.read("flow.json"), flow(weigh_timeout=45, load_run="a.py"))

    def test_a_desk_catches_up_with_what_was_edited_on_it(self) -> None:
        self.put({"flow.json": flow(), "b.txt": b"1\n", "c.txt": b"1\n"})
        self.terminal.run("take", self.shelf.key, "desk")
        self.terminal.folder = self.terminal.folder / "desk"
        self.put({"flow.json": flow(weigh_timeout=45), "b.txt": b"2\n", "c.txt": b"2\n"})
        self.terminal.write("flow.json", flow(sail_timeout=99))
        self.assertIn("everyshelf catch-up", self.terminal.run("take", code=3).stderr)
        self.assertIn("2 changes merged", self.terminal.run("catch-up").stdout)
        self.assertEqual((self.terminal.folder / "flow.json").read_bytes(), flow(weigh_timeout=45, sail_timeout=99))
        self.assertEqual((self.terminal.folder / "b.txt").read_bytes(), b"2\n")
        aside = self.terminal.folder / ".everyshelf/before-catch-up/flow.json"
        self.assertEqual(aside.read_bytes(), flow(sail_timeout=99))
        (item,) = self.terminal.json("pending")["artifacts"]
        self.assertEqual((item["path"], item["state"]), ("flow.json", "edited"))
        self.terminal.run("commit", "--summary", "Both")
        self.assertEqual(self.shelf.read("flow.json"), flow(weigh_timeout=45, sail_timeout=99))

    def test_what_a_desk_cannot_decide_stays_as_it_is_until_a_side_is_preferred(self) -> None:
        self.put({"flow.json": flow(), "c.txt": b"1\n"})
        self.terminal.run("take", self.shelf.key, "desk")
        self.terminal.folder = self.terminal.folder / "desk"
        self.put({"flow.json": flow(weigh_timeout=45), "c.txt": None})
        self.terminal.write("flow.json", flow(weigh_timeout=60))
        self.terminal.write("c.txt", b"2\n")
        found = self.terminal.json("catch-up", code=3)
        self.assertEqual(sorted(found["conflicts"]), ["c.txt", "flow.json"])
        self.assertIn("timeout was 30", found["conflicts"]["flow.json"][0])
        self.assertEqual((self.terminal.folder / "flow.json").read_bytes(), flow(weigh_timeout=60))
        self.terminal.run("catch-up", "--prefer", "shelf")
        self.assertEqual((self.terminal.folder / "flow.json").read_bytes(), flow(weigh_timeout=45))
        self.assertFalse((self.terminal.folder / "c.txt").exists())
        self.assertEqual(self.terminal.json("pending")["artifacts"], [])

    def test_a_commit_onto_a_branch_that_moved_waits_as_well(self) -> None:
        self.put({"flow.json": flow()})
        self.terminal.run("take", self.shelf.key, "desk")
        self.put({"flow.json": flow(weigh_timeout=45)})
        self.terminal.folder = self.terminal.folder / "desk"
        self.terminal.write("flow.json", flow(weigh_timeout=60))
        self.terminal.run("commit", "--summary", "Mine", code=3)
        done = self.terminal.run("commit", "--summary", "Mine", "--merge", code=3)
        self.assertIn("everyshelf settle", done.stderr)
        self.terminal.run("settle", "flow.json", "1", "--take", "source")
        self.terminal.run("settle", "--finish")
        self.assertEqual(json.loads(self.shelf.read("flow.json"))["steps"][0]["timeout"], 60)
