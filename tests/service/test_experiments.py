"""Experiments: runs tied to what they read and wrote, side by side, adopted or abandoned."""

from __future__ import annotations

import json
import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from everyshelf.client import ProblemError
from everyshelf.core.errors import UnreadableError
from everyshelf.core.runs.comparing import RunRow, answer_so_far, compare_runs
from everyshelf.core.runs.measured import read_measured
from everyshelf.core.runs.thinning import thinned
from tests.support.factories import ServiceCase
from tests.support.laws import law

RULES = b"""[experiments]
metrics = ["results/*.json", "results/*.csv"]
[metrics]
"mean error" = {better = "lower", unit = "min"}
"""


class RunCase(ServiceCase):
    def setUp(self) -> None:
        super().setUp()
        self.put({"shelf.toml": RULES, "data/sailings.csv": b"id,late\n1,3\n", "train.py": b"print(1)\n"})

    def tried(self, files: dict[str, bytes], branch: str, **options: Any) -> dict[str, Any]:
        base = self.shelf.branch(branch).head
        commit = self.put(dict(files), "Run", branch).commit if files else base
        return self.shelf.record_run("tides", branch, str(commit), base=str(base), **options)


class RecordingTests(RunCase):
    """What is kept of a run."""

    def test_key_and_branch_are_suggested_from_the_question(self) -> None:
        made = self.shelf.begin_experiment("Does tide height cut the error?")
        self.assertEqual((made["key"], made["branch"]), ("tide-height-cut", "owner/tide-height-cut"))
        self.assertIn("owner/tide-height-cut", [b.name for b in self.shelf.branches()])
        again = self.shelf.begin_experiment("Does tide height cut the error?")
        self.assertEqual(again["key"], "tide-height-cut-2")

    def test_a_run_is_tied_to_its_commit_and_the_versions_it_read(self) -> None:
        self.shelf.begin_experiment("Tides?", key="tides", branch="try")
        self.put({"data/sailings.csv": b"id,late\n1,3\n2,9\n"}, branch="try")
        head = self.shelf.branch("try").head
        made = self.tried({"results/m.json": b'{"mean error": 3.5}'}, "try", reads=["data/sailings.csv", "no/such"])
        self.assertEqual(
            [(r["path"], r["version"], r["kind"]) for r in made["reads"]], [("data/sailings.csv", 2, "dataset")]
        )
        self.assertEqual((made["base"], made["metrics"]), (head, {"mean error": 3.5}))
        self.assertNotEqual(made["commit"], made["base"])

    def test_metrics_come_from_the_files_the_run_wrote(self) -> None:
        self.shelf.begin_experiment("Tides?", key="tides", branch="try")
        self.tried({"results/old.json": b'{"stale": 1}'}, "try")
        curve = b"round,mean error\n1,5\n2,4.5\n3,4.25\n"
        made = self.tried({"results/curve.csv": curve}, "try", metrics={"late found": 0.6}, parameters={"depth": "8"})
        self.assertEqual(made["metrics"], {"mean error": 4.25, "late found": 0.6})
        self.assertEqual(made["parameters"], {"depth": 8})
        self.assertEqual(made["courses"], {"mean error": 3})
        points = self.shelf.courses("tides", "mean error")
        self.assertEqual([c["points"] for c in points], [[[1.0, 5.0], [2.0, 4.5], [3.0, 4.25]]])

    def test_what_cannot_be_read_for_metrics_is_noted_not_lost(self) -> None:
        self.shelf.begin_experiment("Tides?", key="tides", branch="try")
        made = self.tried({"results/m.json": b'{"words": "only"}'}, "try")
        self.assertEqual((made["state"], made["metrics"]), ("done", {}))
        self.assertIn("no number", made["note"])

    def test_wrong_runs_are_refused_in_words(self) -> None:
        self.shelf.begin_experiment("Tides?", key="tides", branch="try")
        head = str(self.shelf.branch("try").head)
        for code, options in {
            "run.metric": {"metrics": {"error": "much"}},
            "run.series": {"series": {"error": [[1, "x"]]}},
            "path.invalid": {"reads": ["../etc"]},
        }.items():
            with self.subTest(code=code), self.assertRaises(ProblemError) as caught:
                self.shelf.record_run("tides", "try", head, **options)
            self.assertEqual(caught.exception.status, 400)
        with self.assertRaises(ProblemError) as caught:
            self.shelf.record_run("tides", "try", "ffffffffff")
        self.assertEqual(caught.exception.code, "commit.missing")
        for question, key, code in (
            ("", "", "input.invalid"),
            ("Q?", "No Key", "experiment.key"),
            ("Q?", "tides", "experiment.taken"),
        ):
            with self.assertRaises(ProblemError) as caught:
                self.shelf.begin_experiment(question, key=key)
            self.assertEqual(caught.exception.code, code)


class ComparingTests(RunCase):
    """Runs of several branches in one table."""

    def setUp(self) -> None:
        super().setUp()
        self.shelf.begin_experiment("Tides?", key="tides", branch="try")
        for branch, depth, error in (("main", 6, 4.12), ("main", 8, 4.05), ("try", 8, 3.41)):
            files = {"results/m.json": json.dumps({"mean error": error}).encode()} if branch == "try" else {}
            more = {} if files else {"metrics": {"mean error": error}}
            self.tried(files, branch, parameters={"depth": depth, "rate": 0.1}, **more)

    def test_differences_are_marked_against_the_base_run_and_the_best_by_direction(self) -> None:
        found = self.shelf.experiment("tides", 2)
        depth = {r["number"]: r["cells"]["parameters"]["depth"]["differs"] for r in found["runs"]}
        self.assertEqual(depth, {1: True, 2: False, 3: False})
        best = {r["number"]: r["cells"]["metrics"]["mean error"]["best"] for r in found["runs"]}
        self.assertEqual(best, {1: False, 2: False, 3: True})
        columns = {c["name"]: (c["differs"], c["better"], c["unit"]) for c in found["columns"]}
        self.assertEqual(columns["mean error"], (True, "lower", "min"))
        self.assertEqual(columns["rate"][0], False)
        self.assertEqual(found["answer"], "So far mean error went from 4.05 to 3.41 min (−16 %), in run 3.")

    def test_adopting_opens_a_proposal_and_keeps_the_answer(self) -> None:
        adopted = self.shelf.adopt_experiment("tides")
        self.assertEqual((adopted["state"], adopted["proposal_state"]), ("adopted", "open"))
        proposal = self.shelf.proposal(adopted["proposal"])
        self.assertEqual((proposal["source"], proposal["target"]), ("try", "main"))
        self.assertIn("mean error went from 4.12 to 3.41", proposal["description"])
        self.shelf.merge_proposal(adopted["proposal"], delete_source=True)
        found = self.shelf.experiment("tides")
        self.assertEqual((found["proposal_state"], len(found["runs"])), ("merged", 3))
        with self.assertRaises(ProblemError) as caught:
            self.shelf.record_run("tides", "main", str(self.shelf.branch("main").head))
        self.assertEqual(caught.exception.code, "experiment.state")

    def test_abandoning_keeps_everything_and_says_why(self) -> None:
        self.shelf.abandon_experiment("tides", "The gauge was broken.")
        listed = self.shelf.experiments()
        self.assertEqual(
            [(e["state"], e["reason"], e["runs_made"]) for e in listed], [("abandoned", "The gauge was broken.", 3)]
        )
        self.assertIn("try", [b.name for b in self.shelf.branches()])

    def test_a_metric_can_be_chosen_to_answer(self) -> None:
        self.tried({}, "try", metrics={"late found": 0.7, "mean error": 3.5})
        self.assertEqual(self.shelf.change_experiment("tides", primary="late found")["primary"], "late found")
        with self.assertRaises(ProblemError) as caught:
            self.shelf.experiment("tides", 99)
        self.assertEqual(caught.exception.code, "run.missing")


class MeasuredTests(unittest.TestCase):
    """What files say that programs leave behind."""

    def test_files_of_every_form(self) -> None:
        forms = {
            "m.json": (
                b'{"test": {"rmse": 1.5, "rows": 9}, "note": "x", "ok": true}',
                {"test.rmse": 1.5, "test.rows": 9.0},
            ),
            "m.yaml": (b"rmse: 1.5\nfolds: [1, 2]\n", {"rmse": 1.5, "folds": 2.0}),
            "m.toml": (b"[test]\nrmse = 1.5\n", {"test.rmse": 1.5}),
            "m.csv": (b"metric,value\nrmse,1.5\nf1,0.5\n", {"rmse": 1.5, "f1": 0.5}),
            "h.csv": (b"epoch,loss\n1,3\n2,1.5\n", {"loss": 1.5}),
            "h.jsonl": (b'{"epoch": 1, "loss": 3}\n{"epoch": 2, "loss": 1.5}\n', {"loss": 1.5}),
        }
        for name, (data, wanted) in forms.items():
            with self.subTest(name=name):
                self.assertEqual(read_measured(name, data).completed().metrics, wanted)
        for name, data in (("m.json", b'{"a": "x"}'), ("m.json", b"{"), ("m.csv", b"a,b\nx,y\n"), ("m.toml", b"[")):
            with self.subTest(data=data), self.assertRaises(UnreadableError):
                read_measured(name, data)

    @law(100)
    @given(st.lists(st.tuples(st.floats(-1e6, 1e6), st.floats(-1e6, 1e6)), max_size=300), st.integers(3, 40))
    def test_thinning_keeps_ends_and_order_and_invents_nothing(
        self, points: list[tuple[float, float]], most: int
    ) -> None:
        found = thinned(points, most)
        self.assertLessEqual(len(found), max(most, 0) if len(points) > most else len(points))
        left = iter(points)
        self.assertTrue(all(p in left for p in found), "not a subsequence")
        if points:
            self.assertEqual((found[0], found[-1]), (points[0], points[-1]))

    @law(80)
    @given(st.lists(st.floats(-1e9, 1e9), min_size=1, max_size=8), st.sampled_from(["lower", "higher"]))
    def test_no_run_is_better_than_the_best(self, values: list[float], better: str) -> None:
        rows = [RunRow(n, metrics={"m": v}) for n, v in enumerate(values, 1)]
        table = compare_runs(rows, 1, {"m": {"better": better}})
        best = [r for r in rows if table["cells"][r.number]["metrics"]["m"]["best"]]
        wanted = min(values) if better == "lower" else max(values)
        self.assertTrue(all(r.metrics["m"] == wanted for r in best))
        self.assertEqual(bool(best), len(set(values)) > 1)
        self.assertTrue(answer_so_far(table, rows).endswith("."))

    def test_equal_as_people_read_it(self) -> None:
        rows = [RunRow(1, parameters={"d": 8}), RunRow(2, parameters={"d": "8"}), RunRow(3, parameters={"d": True})]
        cells = compare_runs(rows, 1)["cells"]
        self.assertEqual([cells[n]["parameters"]["d"]["differs"] for n in (1, 2, 3)], [False, False, True])
