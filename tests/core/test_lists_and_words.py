"""Maps, lists and words: one entry more changes one thing, names with slashes stay names, what is added is shown."""

from __future__ import annotations

import unittest
from typing import Any

from tests.support.factories import compared, told

JOBS = {"jobs": {"build": {"runs-on": "quay", "steps": [{"run": f"step-{n}.sh"} for n in range(40)]}}}


def with_job(name: str, **more: Any) -> dict[str, Any]:
    return {"jobs": {**JOBS["jobs"], name: {"needs": ["build"], **more}}}


class EntryTests(unittest.TestCase):
    """A map that grows from one entry to two is the same map."""

    def test_a_job_added_to_a_file_of_one_job(self) -> None:
        found = compared(JOBS, with_job("load"), "work.yaml")
        self.assertEqual([(f["action"], f["part"]) for f in found["findings"]], [("added", "/step:load")])
        self.assertEqual(found["kind"], "pipeline")
        back = compared(with_job("load"), JOBS, "work.yaml")
        self.assertEqual([(f["action"], f["part"]) for f in back["findings"]], [("removed", "/step:load")])

    def test_a_change_beside_the_added_job_is_seen(self) -> None:
        after = with_job("load")
        after["jobs"]["build"] = {**after["jobs"]["build"], "runs-on": "harbour"}
        found = told(compared(JOBS, after, "work.yaml"))
        self.assertIn(("changed", "/step:build", "runs-on", "quay", "harbour"), found)
        self.assertEqual(len(found), 2)

    def test_a_service_added_to_settings_of_one(self) -> None:
        before = {"ferries": {"Skerry": {"berths": 2, "crew": {"mate": 1}}}}
        after = {"ferries": {**before["ferries"], "Corran": {"berths": 1}}}
        self.assertEqual([f[:2] for f in told(compared(before, after))], [("added", "/ferry:Corran")])

    def test_a_name_that_is_no_plural_is_kept(self) -> None:
        for name in ("canvas", "alias", "https", "status", "windows", "gps"):
            with self.subTest(name=name):
                before = {name: {"left": {"size": 1}, "right": {"size": 1}}}
                found = told(compared(before, {name: {**before[name], "left": {"size": 2}}}))
                self.assertEqual([part for _, part, *_ in found], [f"/group:{name}/group:left"])

    def test_a_plural_gives_its_items_their_type(self) -> None:
        for name, one in (
            ("aliases", "alias"),
            ("caches", "cache"),
            ("retryPolicies", "retryPolicy"),
            ("axes", "axis"),
        ):
            with self.subTest(name=name):
                before = {name: {"left": {"size": 1}, "right": {"size": 1}}}
                found = told(compared(before, {name: {**before[name], "left": {"size": 2}}}))
                self.assertEqual([part for _, part, *_ in found], [f"/{one}:left"])

    def test_slashes_in_names(self) -> None:
        before = {"types": {"text/plain": {"size": 1}, "a/bs": [1, 2]}}
        after = {"types": {"text/plain": {"size": 2}, "a/bs": [1, 3]}}
        parts = [f["part"] for f in compared(before, after)["findings"]]
        self.assertTrue(all(part.count("/") == part.count(":") for part in parts), parts)

    def test_an_added_list_shows_what_is_in_it(self) -> None:
        found = told(
            compared({"name": "night"}, {"name": "night", "ports": ["Aldwick", "Brae"], "far": {"a": {"b": 1}}})
        )
        self.assertIn(("added", "/list:ports", None, None, ["Aldwick", "Brae"]), found)
        self.assertTrue(all(after for *_, after in found), found)


class PaperTests(unittest.TestCase):
    """Reports and scripts."""

    def test_an_entry_in_front_of_a_changelog_moves_nothing(self) -> None:
        entries = [f"## Changed\n\nThe berth at quay {n} is deeper.\n" for n in range(6)]
        before, after = ("# Log\n\n" + "\n".join(e) for e in (entries, ["## Changed\n\nA new ferry.\n", *entries]))
        found = compared(before.encode(), after.encode(), "log.md")
        self.assertEqual([(f["action"], f["type"]) for f in found["findings"]], [("added", "section")])

    def test_one_statement_nobody_can_read_costs_no_other(self) -> None:
        before = "CREATE TABLE trips (id INT, fare INT);\nFROBNICATE 'a' THE trips WITH;\nSELECT id FROM trips;\n"
        after = before.replace("fare INT", "fare BIGINT").replace("'a'", "'b'")
        found = compared(before.encode(), after.encode(), "s.sql")
        self.assertEqual((found["read_as"], found["judged"]), ("script", True))
        self.assertEqual(len(found["findings"]), 2)

    def test_basic_is_shown_as_it_is_written(self) -> None:
        before = b'Sub Weigh()\n  Debug.Print "Tonnes", Total\nEnd Sub\n'
        found = compared(before, before.replace(b"Total", b"GrandTotal"), "m.bas")
        self.assertIn("Debug.Print", str(found["findings"][0]["after"]))
        lower = compared(before, before.replace(b"Debug.Print", b"debug.print"), "m.bas")
        self.assertEqual(lower["effects"]["alters"], 0)

    def test_result_lines_are_read(self) -> None:
        before = b'{"case": "boards", "ok": true}\n{"case": "sails", "ok": true}\n'
        found = compared(before, before.replace(b'sails", "ok": true', b'sails", "ok": false'), "r.jsonl", kind="tests")
        self.assertEqual((found["read_as"], found["note"].count("outline")), ("tests", 0))
        self.assertEqual(len(found["findings"]), 1)


class LayoutTests(unittest.TestCase):
    """Names that drawings use are layout only where something is drawn."""

    def changed(self, before: dict[str, Any], after: dict[str, Any]) -> list[str | None]:
        wrap = [{"steps": [step, {"id": "z", "needs": ["a"]}]} for step in (before, after)]
        return [f["effect"] for f in compared(wrap[0], wrap[1], "p.json")["findings"]]

    def test_settings_called_like_coordinates(self) -> None:
        for field, old, new in (
            ("size", 5, 50),
            ("left", "trips", "fares"),
            ("top", 10, 20),
            ("position", "append", "replace"),
            ("width", 3, 4),
            ("selected", True, False),
            ("modified", "yes", "no"),
        ):
            with self.subTest(field=field):
                self.assertEqual(self.changed({"id": "a", field: old}, {"id": "a", field: new}), ["alters"])

    def test_coordinates(self) -> None:
        at = {"id": "a", "x": 1, "y": 2, "width": 3}
        self.assertEqual(self.changed(at, {**at, "x": 9, "width": 8}), ["cosmetic", "cosmetic"])
        self.assertEqual(self.changed({"id": "a", "position": [1, 2]}, {"id": "a", "position": [3, 2]}), ["cosmetic"])
        placed = {"id": "a", "position": {"x": 1, "y": 1}, "size": {"width": 3, "height": 2}}
        self.assertEqual(self.changed(placed, {**placed, "size": {"width": 9, "height": 2}}), ["cosmetic"])
        alone = {"id": "a", "size": {"width": 3, "height": 2}}
        self.assertEqual(self.changed(alone, {**alone, "size": {"width": 9, "height": 2}}), ["alters"])

    def test_white_space_that_means_something(self) -> None:
        for old, new in (
            ("\t", " "),
            ("a", "a "),
            ("if x:\n  y()\nz()", "if x:\n  y()\n  z()"),
            ("a = 1\nb = 2", "a = 1 b = 2"),
        ):
            with self.subTest(old=old):
                self.assertEqual(self.changed({"id": "a", "by": old}, {"id": "a", "by": new}), ["alters"])
        wrapped = ("SELECT id\nFROM trips", "SELECT id FROM trips")
        self.assertEqual(self.changed({"id": "a", "by": wrapped[0]}, {"id": "a", "by": wrapped[1]}), ["cosmetic"])


class GraphTests(unittest.TestCase):
    """Regenerated ids, one at a time."""

    PROCESS = """<definitions xmlns="http://www.omg.org/spec/BPMN/20100524/MODEL" id="d"><process id="p">
<startEvent id="StartEvent_1a2b3c"/><sequenceFlow id="Flow_1" sourceRef="StartEvent_1a2b3c" targetRef="Activity_a1"/>
<userTask id="Activity_a1" name="Scan ticket" assignee="crew"/>
<sequenceFlow id="Flow_2" sourceRef="Activity_a1" targetRef="Activity_b2"/><userTask id="Activity_b2" name="Board"/>
<sequenceFlow id="Flow_3" sourceRef="Activity_b2" targetRef="End_1"/><endEvent id="End_1"/></process></definitions>"""

    def findings(self, *changes: tuple[str, str]) -> list[tuple[Any, ...]]:
        after = self.PROCESS
        for old, new in changes:
            after = after.replace(old, new)
        return told(compared(self.PROCESS.encode(), after.encode(), "w.bpmn"))

    def test_an_unnamed_start_event(self) -> None:
        self.assertEqual(self.findings(("StartEvent_1a2b3c", "StartEvent_9z8y7x")), [])

    def test_the_one_real_change_in_a_step_with_a_new_id(self) -> None:
        found = self.findings(("Activity_a1", "Activity_zz9"), ('"crew"', '"mate"'))
        self.assertEqual([(f[2], f[3], f[4]) for f in found], [("assignee", "crew", "mate")])

    def test_what_is_joined_to_a_renamed_step_has_not_changed(self) -> None:
        flow = {
            "nodes": [{"id": n, "type": "task", "runs": f"{n}.py", "berth": 1} for n in ("scan", "load", "sail")],
            "edges": [{"from": "scan", "to": "load"}, {"from": "load", "to": "sail"}],
        }
        after = {
            "nodes": [{**n, "id": "scan ticket"} if n["id"] == "scan" else n for n in flow["nodes"]],
            "edges": [{"from": "scan ticket", "to": "load"}, {"from": "load", "to": "sail"}],
        }
        self.assertEqual([f[:2] for f in told(compared(flow, after, "w.json"))], [("renamed", "/step:scan ticket")])

    def test_vendor_elements_that_repeat_and_those_with_parts(self) -> None:
        task = """<userTask id="Activity_a1" name="Scan ticket" assignee="crew"/>"""
        more = """<userTask id="Activity_a1" name="Scan ticket" assignee="crew"><extensionElements>
<v:map source="one" target="berth" xmlns:v="v"/><v:map source="two" target="pier" xmlns:v="v"/>
<v:listener xmlns:v="v" event="end"><v:script>go()</v:script></v:listener></extensionElements></userTask>"""
        before = self.PROCESS.replace(task, more)
        for old, new in (('"one"', '"uno"'), ('"two"', '"due"'), ('event="end"', 'event="start"'), ("go()", "stop()")):
            with self.subTest(old=old):
                found = told(compared(before.encode(), before.replace(old, new).encode(), "w.bpmn"))
                self.assertEqual(
                    [(f[3], f[4]) for f in found], [(old.split("=")[-1].strip('"'), new.split("=")[-1].strip('"'))]
                )
