"""Two people change the same artifacts: what combines, what waits to be settled, and how it is settled."""

from __future__ import annotations

import csv
import io
import json
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from everyshelf.client import ChangeRequest, ProblemError, WaitingMerge
from tests.support.factories import ServiceCase

FLOW = {
    "steps": [
        {"id": "weigh", "run": "weigh.py", "timeout": 30},
        {"id": "load", "run": "load.py", "timeout": 60, "after": ["weigh"]},
        {"id": "sail", "run": "sail.py", "timeout": 90, "after": ["load"]},
    ]
}


def text(value: Any) -> bytes:
    return (json.dumps(value, indent=2) + "\n").encode()


def flow(**changes: Any) -> bytes:
    """The flow with fields of steps set: ``weigh_timeout=45``."""
    steps = json.loads(json.dumps(FLOW))
    for name, value in changes.items():
        key, _, field = name.partition("_")
        next(s for s in steps["steps"] if s["id"] == key)[field] = value
    return text(steps)


class MergingCase(ServiceCase):
    def split(self, base: dict[str, bytes], this: dict[str, bytes | None], other: dict[str, bytes | None]) -> None:
        """A commit on main, then one on main and one on the branch ``try``."""
        self.put(dict(base), "Base")
        self.shelf.make_branch("try")
        self.put(this, "On main")
        self.put(other, "On try", branch="try")

    def waiting(self) -> WaitingMerge:
        """Merging waits: the merge it left."""
        with self.assertRaises(ProblemError) as caught:
            self.shelf.merge("try", "main")
        problem = caught.exception.problem
        self.assertEqual((caught.exception.status, problem["code"]), (409, "merge.conflict"))
        return self.shelf.waiting_merge(problem["merge"])


class CombiningTests(MergingCase):
    """Edits to different parts of one artifact."""

    def test_different_steps_of_one_pipeline_combine(self) -> None:
        self.split({"flow.json": flow()}, {"flow.json": flow(weigh_timeout=45)}, {"flow.json": flow(sail_run="go.py")})
        result = self.shelf.merge("try", "main")
        self.assertEqual((result.taken, result.combined), (1, 1))
        self.assertEqual(self.shelf.read("flow.json"), flow(weigh_timeout=45, sail_run="go.py"))

    def test_different_cells_of_one_notebook_combine(self) -> None:
        def notebook(*sources: str) -> bytes:
            cells = [
                {"cell_type": "code", "id": f"c{n}", "metadata": {}, "source": [s], "outputs": [], "execution_count": n}
                for n, s in enumerate(sources)
            ]
            return text({"cells": cells, "metadata": {}, "nbformat": 4, "nbformat_minor": 5})

        self.split(
            {"n.ipynb": notebook("a = 1", "b = 2", "c = 3")},
            {"n.ipynb": notebook("a = 10", "b = 2", "c = 3")},
            {"n.ipynb": notebook("a = 1", "b = 2", "c = 30")},
        )
        self.shelf.merge("try", "main")
        self.assertEqual(self.shelf.read("n.ipynb"), notebook("a = 10", "b = 2", "c = 30"))

    def test_different_rows_and_columns_of_one_table_combine(self) -> None:
        def table(changes: dict[tuple[int, str], str], more: tuple[str, ...] = ()) -> bytes:
            columns = ["id", "route", "fare", *more]
            out = io.StringIO()
            writer = csv.writer(out, lineterminator="\n")
            writer.writerow(columns)
            for n in range(40):
                row = {"id": str(n), "route": f"r{n % 3}", "fare": f"{n}.50", "quay": f"q{n}"}
                row |= {c: v for (k, c), v in changes.items() if k == n}
                writer.writerow([row[c] for c in columns])
            return out.getvalue().encode()

        self.split(
            {"fares.csv": table({})},
            {"fares.csv": table({(3, "fare"): "9.99", (5, "route"): "x"}, ("quay",))},
            {"fares.csv": table({(3, "route"): "y", (30, "fare"): "1.00"})},
        )
        self.shelf.merge("try", "main")
        every = {(3, "fare"): "9.99", (5, "route"): "x", (3, "route"): "y", (30, "fare"): "1.00"}
        self.assertEqual(self.shelf.read("fares.csv"), table(every, ("quay",)))

    def test_different_tests_of_one_project_combine(self) -> None:
        def project(*seconds: int) -> bytes:
            cases = "".join(f'  <test name="case {n}"><wait seconds="{s}"/></test>\n' for n, s in enumerate(seconds))
            return f"<project name='boarding'>\n{cases}</project>\n".encode()

        self.split({"p.xml": project(1, 2, 3)}, {"p.xml": project(9, 2, 3)}, {"p.xml": project(1, 2, 8)})
        self.shelf.merge("try", "main")
        self.assertEqual(self.shelf.read("p.xml"), project(9, 2, 8))

    def test_a_commit_onto_a_moved_branch_combines(self) -> None:
        first = self.put({"flow.json": flow()})
        self.put({"flow.json": flow(weigh_timeout=45)})
        late = self.shelf.upload(flow(sail_timeout=99)).id
        self.shelf.commit("main", first.commit, [ChangeRequest("flow.json", late)], "Late", merge=True)
        self.assertEqual(self.shelf.read("flow.json"), flow(weigh_timeout=45, sail_timeout=99))

    def test_an_edit_follows_an_artifact_that_moved_and_changed(self) -> None:
        first = self.put({"flow.json": flow()})
        self.shelf.make_branch("try")
        moved = self.shelf.upload(flow(weigh_timeout=45)).id
        changes = [ChangeRequest("night/flow.json", moved, "flow.json")]
        self.shelf.commit("main", first.commit, changes, "Move it")
        self.put({"flow.json": flow(sail_timeout=99)}, branch="try")
        self.shelf.merge("try", "main")
        self.assertEqual([a.path for a in self.shelf.artifacts()], ["night/flow.json"])
        self.assertEqual(self.shelf.read("night/flow.json"), flow(weigh_timeout=45, sail_timeout=99))

    def test_files_of_one_whole_folder_combine(self) -> None:
        def part(rows: str) -> bytes:
            return f"id,fare\n{rows}".encode()

        base = {f"feeds/passages/part-{n}.csv": part(f"{n},1\n{n}0,2\n") for n in range(3)}
        self.split(
            base,
            {"feeds/passages/part-0.csv": part("0,9\n00,2\n")},
            {"feeds/passages/part-2.csv": part("2,8\n20,2\n")},
        )
        self.assertEqual([a.path for a in self.shelf.artifacts()], ["feeds/passages"])
        self.shelf.merge("try", "main")
        self.assertEqual(self.shelf.read("feeds/passages/part-0.csv"), part("0,9\n00,2\n"))
        self.assertEqual(self.shelf.read("feeds/passages/part-2.csv"), part("2,8\n20,2\n"))


class SettlingTests(MergingCase):
    """What does not go together waits on the server."""

    def test_the_same_field_is_a_conflict_that_reads_like_a_sentence(self) -> None:
        self.split({"flow.json": flow()}, {"flow.json": flow(weigh_timeout=45)}, {"flow.json": flow(weigh_timeout=60)})
        merge = self.waiting()
        (artifact,) = merge.artifacts
        (conflict,) = artifact.conflicts
        self.assertEqual(conflict.why, "step “weigh”: timeout was 30; on main it is 45, on try 60")
        self.assertEqual(
            (conflict.part, conflict.field, conflict.base, conflict.target, conflict.source),
            ("/step:weigh", "timeout", 30, 45, 60),
        )
        self.assertEqual(self.shelf.read("flow.json"), flow(weigh_timeout=45))

    def test_what_several_people_settle_at_once_is_all_kept(self) -> None:
        names = [f"s{n}" for n in range(8)]
        base = {"steps": [{"id": n, "run": f"{n}.py", "timeout": 1} for n in names]}
        this = {"steps": [{**step, "timeout": 2} for step in base["steps"]]}
        other = {"steps": [{**step, "timeout": 3} for step in base["steps"]]}
        self.split({"flow.json": text(base)}, {"flow.json": text(this)}, {"flow.json": text(other)})
        merge = self.waiting()
        self.shelf.set_member("keeper", "keeper")
        people = [self.client_of(p).shelf(self.shelf.key) for p in ("owner", "keeper") * 4]
        ids = [c.id for c in merge.artifacts[0].conflicts]

        def settle(number: int) -> None:
            take = "target" if number % 2 else "source"
            people[number].settle(merge.id, [{"path": "flow.json", "conflict": ids[number], "take": take}])

        with ThreadPoolExecutor(8) as pool:
            list(pool.map(settle, range(8)))
        found = self.shelf.waiting_merge(merge.id)
        self.assertEqual((found.open, found.decided), (0, 8))
        by = {c.decision.by for c in found.artifacts[0].conflicts}
        self.assertEqual(by, {"owner", "keeper"})
        self.shelf.finish_merge(merge.id)
        times = [s["timeout"] for s in json.loads(self.shelf.read("flow.json"))["steps"]]
        self.assertEqual(times, [3, 2] * 4)

    def test_settling_part_by_part_then_finishing_makes_the_commit(self) -> None:
        self.split(
            {"flow.json": flow()},
            {"flow.json": flow(weigh_timeout=45, load_run="a.py", sail_timeout=1)},
            {"flow.json": flow(weigh_timeout=60, load_run="b.py")},
        )
        merge = self.waiting()
        self.assertEqual(merge.open, 2)
        with self.assertRaises(ProblemError):
            self.shelf.finish_merge(merge.id)
        ids = {c.field: c.id for c in merge.artifacts[0].conflicts}
        one = {"path": "flow.json", "conflict": ids["timeout"], "take": "source"}
        self.assertEqual(self.shelf.settle(merge.id, [one]).open, 1)
        self.assertEqual(self.shelf.merge_drawing(merge.id, "flow.json").nodes, [])
        # Interrupted here; somebody else goes on.
        two = {"path": "flow.json", "conflict": ids["run"], "take": "edited", "value": "both.py"}
        self.shelf.set_member("author", "author")
        other = self.client_of("author").shelf(self.shelf.key)
        self.assertEqual(other.settle(merge.id, [two]).open, 0)
        drawn = self.shelf.merge_drawing(merge.id, "flow.json").nodes
        states = [(n.label, n.state) for n in drawn]
        self.assertEqual(states, [("weigh", "changed"), ("load", "changed"), ("sail", "same")])
        made = self.shelf.finish_merge(merge.id)
        self.assertEqual(self.shelf.read("flow.json"), flow(weigh_timeout=60, load_run="both.py", sail_timeout=1))
        self.assertTrue(made.merge)
        self.assertIn("settled: on try, by owner", made.description)
        self.assertIn("settled: edited, by author", made.description)
        self.assertEqual(self.shelf.merges(), [])

    def test_a_decision_can_be_taken_back(self) -> None:
        self.split({"flow.json": flow()}, {"flow.json": flow(weigh_timeout=45)}, {"flow.json": flow(weigh_timeout=60)})
        merge = self.waiting()
        said = {"path": "flow.json", "conflict": "/step:weigh#timeout"}
        self.assertEqual(self.shelf.settle(merge.id, [{**said, "take": "target"}]).open, 0)
        self.assertEqual(self.shelf.settle(merge.id, [{**said, "take": None}]).open, 1)

    def test_a_connection_to_a_step_that_the_other_side_removed_is_a_conflict(self) -> None:
        removed = {"steps": FLOW["steps"][:2]}
        more = {"steps": [*FLOW["steps"], {"id": "moor", "run": "moor.py", "timeout": 5, "after": ["sail"]}]}
        self.split({"flow.json": flow()}, {"flow.json": text(removed)}, {"flow.json": text(more)})
        (conflict,) = self.waiting().artifacts[0].conflicts
        self.assertIn("removed on main, used on try", conflict.why)
        self.assertEqual(conflict.label, "sail")

    def test_merging_again_takes_up_the_merge_that_waits(self) -> None:
        self.split({"flow.json": flow()}, {"flow.json": flow(weigh_timeout=45)}, {"flow.json": flow(weigh_timeout=60)})
        self.assertEqual(self.waiting().id, self.waiting().id)

    def test_a_merge_that_waits_follows_its_branch(self) -> None:
        self.split({"flow.json": flow()}, {"flow.json": flow(weigh_timeout=45)}, {"flow.json": flow(weigh_timeout=60)})
        merge = self.waiting()
        self.shelf.settle(merge.id, [{"take": "source"}])
        self.put({"flow.json": flow(weigh_timeout=45, sail_run="new.py"), "b.txt": b"b"}, "Meanwhile")
        self.shelf.finish_merge(merge.id)
        self.assertEqual(self.shelf.read("flow.json"), flow(weigh_timeout=60, sail_run="new.py"))
        self.assertEqual(self.shelf.read("b.txt"), b"b")

    def test_a_preference_settles_all(self) -> None:
        self.split({"flow.json": flow()}, {"flow.json": flow(weigh_timeout=45)}, {"flow.json": flow(weigh_timeout=60)})
        self.shelf.merge("try", "main", prefer="source")
        self.assertEqual(self.shelf.read("flow.json"), flow(weigh_timeout=60))

    def test_an_artifact_put_together_elsewhere_settles_it_whole(self) -> None:
        self.split({"a.bin": b"\0a"}, {"a.bin": b"\0b"}, {"a.bin": b"\0c"})
        merge = self.waiting()
        content = self.shelf.upload(b"\0bc").id
        self.shelf.settle(merge.id, [{"path": "a.bin", "content": content}])
        self.shelf.finish_merge(merge.id)
        self.assertEqual(self.shelf.read("a.bin"), b"\0bc")

    def test_edit_against_removal_of_an_artifact_is_settled_either_way(self) -> None:
        for take, left in (("target", []), ("source", ["a.txt"])):
            self.shelf = self.make_shelf()
            self.split({"a.txt": b"1\n", "b.txt": b"b\n"}, {"a.txt": None}, {"a.txt": b"2\n"})
            merge = self.waiting()
            self.shelf.settle(merge.id, [{"path": "a.txt", "conflict": "/", "take": take}])
            self.shelf.finish_merge(merge.id)
            self.assertEqual([a.path for a in self.shelf.artifacts() if a.path == "a.txt"], left)

    def test_giving_up_leaves_both_sides(self) -> None:
        self.split({"a.txt": b"1\n"}, {"a.txt": b"2\n"}, {"a.txt": b"3\n"})
        merge = self.waiting()
        self.shelf.abandon_merge(merge.id)
        self.assertEqual((self.shelf.merges(), self.shelf.read("a.txt")), ([], b"2\n"))
        with self.assertRaises(ProblemError) as caught:
            self.shelf.finish_merge(merge.id)
        self.assertEqual(caught.exception.problem["code"], "merge.closed")

    def test_readers_see_a_merge_and_cannot_settle_it(self) -> None:
        self.split({"a.txt": b"1\n"}, {"a.txt": b"2\n"}, {"a.txt": b"3\n"})
        merge = self.waiting()
        self.shelf.set_member("reader", "reader")
        reader = self.client_of("reader").shelf(self.shelf.key)
        self.assertEqual([m.id for m in reader.merges()], [merge.id])
        for act in (
            lambda: reader.settle(merge.id, [{"take": "target"}]),
            lambda: reader.finish_merge(merge.id),
            lambda: reader.abandon_merge(merge.id),
        ):
            with self.assertRaises(ProblemError) as caught:
                act()
            self.assertEqual(caught.exception.status, 403)

    def test_what_cannot_be_is_refused_in_words(self) -> None:
        self.split({"flow.json": flow()}, {"flow.json": flow(weigh_timeout=45)}, {"flow.json": flow(weigh_timeout=60)})
        merge = self.waiting()
        for said, code in (
            ({"path": "none.json", "take": "target"}, "settle.artifact"),
            ({"path": "flow.json", "conflict": "/step:none", "take": "target"}, "settle.conflict"),
            ({"path": "flow.json", "conflict": "/step:weigh#timeout", "take": "both"}, "settle.take"),
            ({"path": "flow.json", "content": "f" * 64}, "content.missing"),
        ):
            with self.assertRaises(ProblemError) as caught:
                self.shelf.settle(merge.id, [said])
            self.assertEqual(caught.exception.problem["code"], code)
        with self.assertRaises(ProblemError) as caught:
            self.shelf.waiting_merge("nothing")
        self.assertEqual(caught.exception.problem["code"], "merge.missing")
