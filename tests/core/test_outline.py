"""Outlines as people and programs see them, sentences, and the reading process."""

from __future__ import annotations

import json
import tempfile
import unittest
from pathlib import Path
from typing import Any

from everyshelf.core.compare.options import CompareOptions
from everyshelf.core.compare.sentences import count_noun, effect_of, group, headline
from everyshelf.core.errors import InvalidError
from everyshelf.core.kinds.plurals import singular
from everyshelf.core.kinds.registry import kinds
from everyshelf.core.kinds.rules import Rules, parse_rules
from everyshelf.core.kinds.table import KIND_IDS
from everyshelf.core.outline.identities import is_id_like
from everyshelf.core.reading.messages import FileAt
from everyshelf.core.reading.worker import Worker
from everyshelf.core.tables.given import Given
from everyshelf.demo import flows, papers, tables
from tests.support.factories import as_answer, compared, outlined


def outline(name: str, data: bytes, **options: Any) -> dict[str, Any]:
    return outlined(Given(name, data), options.get("rules", Rules()), options.get("kind"))


def paths(parts: list[dict[str, Any]]) -> list[str]:
    return [p for part in parts for p in (part["path"], *paths(part["parts"]))]


class OutlineTests(unittest.TestCase):
    """What an artifact is made of."""

    def test_pipeline_in_map_form_has_steps(self) -> None:
        found = outline("nightly.cwl", flows.nightly_cwl())
        self.assertEqual((found["kind"], found["format"], found["note"]), ("pipeline", "yaml", ""))
        self.assertIn("/step:join_timetable", paths(found["parts"]))
        self.assertIn("/input:look_back_days", paths(found["parts"]))

    def test_pipeline_in_list_form_has_the_same_paths(self) -> None:
        steps = [{"id": "fetch", "run": "a"}, {"id": "clean", "depends_on": ["fetch"]}]
        listed = outline("a.json", json.dumps({"steps": steps}).encode())
        mapped = outline(
            "b.json",
            json.dumps({"steps": {s["id"]: {k: v for k, v in s.items() if k != "id"} for s in steps}}).encode(),
        )
        for found in (listed, mapped):
            self.assertTrue({"/step:fetch", "/step:clean"} <= set(paths(found["parts"])))

    def test_workflow_has_steps_events_and_connections(self) -> None:
        found = outline("notice.bpmn", flows.disruption())
        kinds = {p.rpartition("/")[2].partition(":")[0] for p in paths(found["parts"])}
        self.assertTrue({"process", "step", "event", "gateway", "connection", "assignment", "layout"} <= kinds)
        self.assertFalse({"incoming", "outgoing"} & kinds)

    def test_notebook_sources_are_one_text(self) -> None:
        found = outline("berths.ipynb", papers.notebook())
        cells = [p for p in found["parts"] if p["type"] == "cell"]
        self.assertEqual(cells[0]["fields"]["source"], "# Berth use\nHow long each berth is taken, by month.")

    def test_table_gives_columns_and_first_rows(self) -> None:
        found = outline("fares.csv", tables.fares(style="sheet"))
        self.assertEqual(
            [(c["name"], c["type"]) for c in found["table"]["columns"]],
            [("zone", "text"), ("class", "text"), ("fare", "decimal"), ("valid_from", "date")],
        )
        self.assertEqual((found["table"]["row_count"], len(found["table"]["rows"])), (40, 40))

    def test_what_has_no_outline_says_why(self) -> None:
        self.assertEqual(outline("a.bin", bytes(range(256)))["read_as"], "text")
        self.assertIn("line 1", outline("a.json", b'{"a": ')["note"])
        declared = outline("a.json", b'{"a": 1}', kind="pipeline")
        self.assertEqual(
            (declared["kind"], declared["note"]), ("pipeline", "declared as pipeline; the content looks like settings")
        )

    def test_very_many_parts_are_cut_off_and_said(self) -> None:
        found = outline("a.json", json.dumps({"items": [{"id": n} for n in range(12_000)]}).encode())
        self.assertTrue(found["truncated"])
        self.assertLessEqual(len(paths(found["parts"])), 10_000)

    def test_slash_in_a_key_can_be_told_apart(self) -> None:
        found = outline("api.json", b'{"openapi": "3.1.0", "paths": {"/fares/{zone}": {"get": {}}}}')
        self.assertIn("/path:%2Ffares%2F{zone}", paths(found["parts"]))


class TableTests(unittest.TestCase):
    """The tables of the kinds are consistent."""

    def test_every_table_is_of_a_kind(self) -> None:
        self.assertTrue(set(kinds()) <= set(KIND_IDS))
        for table in (kind.table for kind in kinds().values()):
            for rule in table.breaks:
                self.assertIn(len(rule), (2, 3))
                self.assertIn(rule[0], ("added", "removed", "changed", "renamed", "moved"))

    def test_plurals_become_types(self) -> None:
        for many, one in (
            ("steps", "step"),
            ("entries", "entry"),
            ("branches", "branch"),
            ("boxes", "box"),
            ("status", "status"),
            ("address", "address"),
            ("in", "in"),
            ("classes", "class"),
            ("s", "s"),
        ):
            self.assertEqual(singular(many), one)

    def test_id_like_names_are_ranked(self) -> None:
        self.assertEqual(is_id_like("id"), 0)
        self.assertIsNotNone(is_id_like("sailing_id"))
        self.assertIsNotNone(is_id_like("orderId"))
        self.assertIsNone(is_id_like("height"))


class SentenceTests(unittest.TestCase):
    """One line that stands alone."""

    def test_nouns_are_counted(self) -> None:
        for count, noun, said in (
            (1, "step", "1 step"),
            (2, "step", "2 steps"),
            (3, "entry", "3 entries"),
            (2, "branch", "2 branches"),
            (2, "settings", "2 settings"),
            (1, "tests", "1 test"),
            (12000, "row", "12\u202f000 rows"),
            (2, "day", "2 days"),
        ):
            self.assertEqual(count_noun(count, noun), said)
        self.assertEqual(group(1234567), "1\u202f234\u202f567")

    def test_headline_leaves_cosmetic_out_unless_alone(self) -> None:
        found = compared(flows.disruption(), flows.disruption(shift=9, approver="harbour master"), "a.bpmn")
        self.assertEqual(headline(as_answer(found)), "assignment: duty officer → harbour master")
        self.assertEqual(
            headline(as_answer(compared(flows.disruption(), flows.disruption(shift=9), "a.bpmn"))),
            "1 cosmetic change only",
        )
        same = compared(flows.disruption(), flows.disruption().replace(b"\n", b"\r\n"), "a.bpmn")
        self.assertEqual(
            (headline(as_answer(same)), effect_of(as_answer(same))), ("written differently, means the same", None)
        )

    def test_bytes_and_tables_have_theirs(self) -> None:
        self.assertEqual(
            headline(as_answer(compared(papers.picture(), papers.picture(route=True), "a.bin", kind="opaque"))),
            "not compared: no reader knows it",
        )
        found = compared(tables.fares(), tables.fares(extra=True), "fares.csv", key=["zone", "class"])
        self.assertEqual(headline(as_answer(found)), "10 rows added")

    def test_same_table_saved_by_a_spreadsheet_is_cosmetic(self) -> None:
        found = compared(tables.fares(), tables.fares(style="sheet"), "fares.csv")
        self.assertEqual((effect_of(as_answer(found)), found["table"]["rows"]["changed"]), ("cosmetic", 0))
        self.assertEqual({f["field"] for f in found["findings"]}, {"delimiter", "newline"})


class DemoKindTests(unittest.TestCase):
    """Every pair of the demo is told as a person would tell it."""

    def test_app_export_stamps_are_cosmetic(self) -> None:
        found = compared(flows.gangway_app(), flows.gangway_app(button=64, stamp=3), "app.json")
        self.assertEqual({f["effect"] for f in found["findings"]}, {"cosmetic"})
        added = compared(flows.gangway_app(), flows.gangway_app(offline=True), "app.json")
        self.assertEqual(
            [(f["action"], f["type"]) for f in added["findings"] if f["effect"] != "cosmetic"], [("added", "control")]
        )

    def test_notebook_runs_are_cosmetic_and_new_cells_are_not(self) -> None:
        rerun = compared(papers.notebook(), papers.notebook(ran=9), "n.ipynb")
        self.assertEqual({f["effect"] for f in rerun["findings"]}, {"cosmetic"})
        found = compared(papers.notebook(), papers.notebook(winter=True), "n.ipynb")
        self.assertEqual([f["part"] for f in found["findings"] if f["effect"] != "cosmetic"], ["/cell:winter"])

    def test_model_input_breaks_and_coefficients_alter(self) -> None:
        before = papers.model(["hour", "wind"], [0.1, 0.4], "2026-01-30")
        found = compared(before, papers.model(["hour", "wind", "tide"], [0.1, 0.5, -0.9], "2026-02-14"), "m.pmml")
        self.assertEqual(
            [(f["action"], f["label"]) for f in found["findings"] if f["effect"] == "breaks"], [("added", "tide")]
        )
        self.assertIn(
            ("changed", "wind", "alters"), [(f["action"], f["label"], f["effect"]) for f in found["findings"]]
        )
        stamped = compared(before, papers.model(["hour", "wind"], [0.1, 0.4], "2026-02-01"), "m.pmml")
        self.assertEqual({f["effect"] for f in stamped["findings"]}, {"cosmetic"})

    def test_results_tell_newly_failing_apart(self) -> None:
        found = compared(papers.results(11, 0, 3.0), papers.results(10, 1, 4.0), "r.xml")
        self.assertEqual([f["type"] for f in found["findings"] if f["effect"] == "breaks"], ["case"])
        self.assertEqual(
            {
                f["effect"]
                for f in compared(papers.results(11, 0, 3.0), papers.results(11, 0, 9.0), "r.xml")["findings"]
            },
            {"cosmetic"},
        )

    def test_rules_decide_before_content(self) -> None:
        rules = parse_rules('[kinds]\n"*.dat" = "settings"\n[keys]\n"f.csv" = ["b"]\n')
        self.assertEqual(outline("a.dat", b"GATE\x00", rules=rules)["kind"], "settings")
        self.assertEqual(compared(b"a,b\n1,x\n2,y\n", b"a,b\n2,x\n1,y\n", "f.csv", rules=rules)["table"]["key"], ["b"])


class WorkerTests(unittest.TestCase):
    """The reading process is used again, and mistakes come back as ours."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.worker = Worker()
        self.addCleanup(self.worker.close)

    def file(self, name: str, data: bytes) -> FileAt:
        path = self.folder / name
        path.write_bytes(data)
        return FileAt(name, str(path))

    def test_one_process_answers_many(self) -> None:
        pair = self.file("a.json", b'{"a": 1}'), self.file("b.json", b'{"a": 2}')
        first = self.worker.compare(*pair)
        process = self.worker._process
        self.assertEqual(self.worker.compare(*pair), first)
        self.assertIs(self.worker._process, process)
        self.assertEqual(self.worker.outline(pair[0]).kind, "settings")

    def test_mistakes_do_not_end_it(self) -> None:
        pair = self.file("a.csv", b"a,b\n1,2\n"), self.file("b.csv", b"a,b\n1,3\n")
        with self.assertRaises(InvalidError) as caught:
            self.worker.compare(*pair, CompareOptions(key=("zone",)))
        self.assertEqual(caught.exception.code, "key.missing")
        self.assertEqual(self.worker.compare(*pair).counts["changed"], 1)

    def test_killed_process_costs_one_answer(self) -> None:
        pair = self.file("a.json", b'{"a": 1}'), self.file("b.json", b'{"a": 2}')
        self.worker.compare(*pair)
        assert self.worker._process is not None
        self.worker._process.kill()
        self.worker._process.wait()
        self.assertEqual(self.worker.compare(*pair).counts["changed"], 1)

    def test_pickles_are_never_run(self) -> None:
        marker = self.folder / "marker"
        hostile = b"\x80\x04cos\nsystem\n(V" + f"touch {marker}".encode() + b"\ntR."
        found = self.worker.compare(self.file("a.pkl", hostile), self.file("b.pkl", hostile + b" "))
        self.assertEqual(found.kind, "model")
        self.assertFalse(marker.exists())

    def test_endless_reading_is_ended(self) -> None:
        big = self.file("big.json", b"[" + b",".join(b'{"id": %d, "v": [%d]}' % (n, n) for n in range(300_000)) + b"]")
        quick = Worker(deadline_seconds=0.2)
        self.addCleanup(quick.close)
        found = quick.outline(big)
        self.assertEqual((found.read_as, found.parts), ("bytes", []))
        self.assertIn("over 0.2 seconds", found.note)
