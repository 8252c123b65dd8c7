"""Pipelines: CWL in both forms and both syntaxes, and lists or maps of steps that refer to each other."""

from __future__ import annotations

import copy
import json
import random
import unittest
from typing import Any

import yaml
from hypothesis import given
from hypothesis import strategies as st

from tests.support.factories import compared, told
from tests.support.laws import law

TOOL: dict[str, Any] = {
    "cwlVersion": "v1.2",
    "class": "Workflow",
    "doc": "Delays by route",
    "requirements": {"ScatterFeatureRequirement": {}},
    "inputs": {"logs": {"type": "File[]"}, "season": "string", "limit": {"type": "int?", "default": 5}},
    "outputs": {"report": {"type": "File", "outputSource": "plot/picture"}},
    "steps": {
        "clean": {"run": "clean.cwl", "scatter": "log", "in": {"log": "logs", "limit": "limit"}, "out": ["table"]},
        "plot": {
            "run": "plot.cwl",
            "in": {"tables": "clean/table", "season": {"source": "season"}},
            "out": [{"id": "picture"}],
        },
    },
}
LISTED: dict[str, Any] = {
    "class": "Workflow",
    "cwlVersion": "v1.2",
    "steps": [
        {
            "id": "#main/plot",
            "out": ["picture"],
            "run": "plot.cwl",
            "in": [{"id": "season", "source": "season"}, {"id": "tables", "source": "clean/table"}],
        },
        {
            "id": "#main/clean",
            "run": "clean.cwl",
            "scatter": "log",
            "in": [{"id": "limit", "source": "limit"}, {"id": "log", "source": "logs"}],
            "out": [{"id": "table"}],
        },
    ],
    "outputs": [{"id": "report", "type": "File", "outputSource": "plot/picture"}],
    "inputs": [
        {"id": "limit", "type": ["null", "int"], "default": 5},
        {"id": "season", "type": "string"},
        {"id": "logs", "type": {"type": "array", "items": "File"}},
    ],
    "requirements": [{"class": "ScatterFeatureRequirement"}],
    "doc": "Delays by route",
}


def of(before: Any, after: Any) -> dict[str, Any]:
    found = compared(yaml.safe_dump(before, sort_keys=False).encode(), yaml.safe_dump(after).encode(), "delays.cwl")
    assert found["read_as"] == "pipeline", found["note"]
    return found


def edited(**changes: Any) -> dict[str, Any]:
    tree = copy.deepcopy(TOOL)
    for path, value in changes.items():
        here: Any = tree
        *steps, last = path.split("__")
        for step in steps:
            here = here[step]
        if value is None:
            del here[last]
        else:
            here[last] = value
    return tree


class CwlTests(unittest.TestCase):
    """Spelling means nothing, wiring and interface do."""

    def test_map_form_and_list_form_are_the_same(self) -> None:
        self.assertEqual(of(TOOL, LISTED)["findings"], [])
        self.assertEqual(of(LISTED, TOOL)["findings"], [])

    def test_json_and_yaml_are_the_same(self) -> None:
        found = compared(yaml.safe_dump(TOOL).encode(), json.dumps(LISTED).encode(), "delays.cwl")
        self.assertEqual(told(found), [])

    def test_rewired_source_is_one_finding(self) -> None:
        found = of(TOOL, edited(steps__plot__in__tables="clean/rows"))
        self.assertEqual(told(found), [("changed", "/step:plot/source:tables", "source", "clean/table", "clean/rows")])

    def test_what_callers_give_and_get_decides_what_breaks(self) -> None:
        for change, action, part, effect in (
            ({"inputs__season": None}, "removed", "/input:season", "breaks"),
            ({"outputs__report": None}, "removed", "/output:report", "breaks"),
            ({"inputs__route": "string"}, "added", "/input:route", "breaks"),
            ({"inputs__route": {"type": "string", "default": "north"}}, "added", "/input:route", "alters"),
            ({"inputs__route": "string?"}, "added", "/input:route", "alters"),
            ({"inputs__season": "string?"}, "changed", "/input:season", "alters"),
            ({"inputs__limit": {"type": "int", "default": 5}}, "changed", "/input:limit", "breaks"),
            ({"inputs__season": "int"}, "changed", "/input:season", "breaks"),
            ({"doc": "Delays, by route"}, "changed", "/", "cosmetic"),
            ({"steps__clean__run": "clean2.cwl"}, "changed", "/step:clean", "alters"),
            ({"steps__clean": None}, "removed", "/step:clean", "alters"),
        ):
            with self.subTest(change=change):
                found = of(TOOL, edited(**change))["findings"]
                self.assertEqual([(f["action"], f["part"], f["effect"]) for f in found], [(action, part, effect)])

    def test_tools_in_one_graph_are_told_apart(self) -> None:
        graph = {
            "cwlVersion": "v1.2",
            "$graph": [
                {"id": "#a", "class": "CommandLineTool", "baseCommand": "sort"},
                {"id": "#b", "class": "CommandLineTool", "baseCommand": ["uniq", "-c"]},
            ],
        }
        other = copy.deepcopy(graph)
        other["$graph"].reverse()
        self.assertEqual(of(graph, other)["findings"], [])
        other["$graph"][1]["baseCommand"] = "tac"
        self.assertEqual(told(of(graph, other)), [("changed", "/process:a", "baseCommand", "sort", "tac")])

    def test_nested_tool_is_compared_inside_its_step(self) -> None:
        inner = {"class": "CommandLineTool", "baseCommand": "sort", "inputs": {"log": "File"}, "outputs": {}}
        found = of(edited(steps__clean__run=inner), edited(steps__clean__run={**inner, "baseCommand": "tac"}))
        self.assertEqual(told(found), [("changed", "/step:clean/process:run", "baseCommand", "sort", "tac")])


def listed(steps: dict[str, dict[str, Any]]) -> dict[str, Any]:
    return {"name": "nightly", "steps": [{"name": n, **s} for n, s in steps.items()]}


STEPS = {
    "load": {"kind": "file", "path": "data/log.csv"},
    "clean": {"kind": "script", "drop": ["late", "void"], "depends_on": ["load"]},
    "check": {"kind": "rule", "least": 5, "depends_on": ["clean", "load"]},
    "post": {"kind": "mail", "to": "desk@skerry.example", "depends_on": ["check"]},
}


class OtherPipelineTests(unittest.TestCase):
    """Anything with named steps that refer to each other."""

    def test_list_of_steps_against_map_of_steps(self) -> None:
        self.assertEqual(told(compared(listed(STEPS), {"name": "nightly", "steps": STEPS})), [])

    def test_order_of_steps_and_dependencies_means_nothing(self) -> None:
        other = dict(reversed(STEPS.items()))
        other["check"] = {**STEPS["check"], "depends_on": ["load", "clean"]}
        self.assertEqual(told(compared(listed(STEPS), listed(other))), [])

    def test_dependency_is_one_finding(self) -> None:
        other = {**STEPS, "post": {**STEPS["post"], "depends_on": ["check", "load"]}}
        found = compared(listed(STEPS), listed(other))
        self.assertEqual(
            [(a, p, v) for a, p, _, _, v in told(found)], [("added", "/step:post/dependency:load", "load")]
        )

    def test_renamed_step_is_told_as_renamed(self) -> None:
        other = {("tidy" if n == "clean" else n): s for n, s in STEPS.items()}
        found = compared({"steps": STEPS}, {"steps": other})
        self.assertEqual([(a, p, b, c) for a, p, _, b, c in told(found)], [("renamed", "/step:tidy", "clean", "tidy")])

    def test_pipeline_in_xml_has_steps(self) -> None:
        before = b'<pipeline name="p"><steps><step name="load" path="a.csv"/><step name="clean"><dependsOn>load</dependsOn></step></steps></pipeline>'
        found = compared(before, before.replace(b"a.csv", b"b.csv"), "p.xml")
        self.assertEqual(
            (found["kind"], [(a, f, b, c) for a, _, f, b, c in told(found)]),
            ("pipeline", [("changed", "path", "a.csv", "b.csv")]),
        )

    @law(60)
    @given(st.randoms(use_true_random=False))
    def test_each_single_edit_is_exactly_its_finding(self, rng: random.Random) -> None:
        steps = {
            f"step-{k}": {"kind": rng.choice(["file", "script"]), "limit": k, "options": {"deep": k, "wide": True}}
            for k in range(rng.randint(3, 25))
        }
        names = list(steps)
        for k, name in enumerate(names[1:], 1):
            steps[name]["depends_on"] = [names[rng.randrange(k)]]
        other = copy.deepcopy(steps)
        name = rng.choice(names)
        edit = rng.choice(["field", "deep", "add", "drop"])
        if edit == "field":
            other[name]["limit"] = 999
            expected = ("changed", f"/step:{name}", "limit")
        elif edit == "deep":
            other[name]["options"]["deep"] = 999
            expected = ("changed", f"/step:{name}/group:options", "deep")
        elif edit == "add":
            other["brand-new"] = {"kind": "mail", "limit": -1, "depends_on": [name]}
            expected = ("added", "/step:brand-new", None)
        else:
            del other[name]
            expected = ("removed", f"/step:{name}", None)
        shuffled = list(other.items())
        rng.shuffle(shuffled)
        before, after = (
            yaml.safe_dump(listed(steps)).encode(),
            json.dumps(listed(dict(shuffled)), indent=rng.choice([None, 1, 4])).encode(),
        )
        found = compared(before, after, "nightly.yaml")
        self.assertEqual([(a, p, f) for a, p, f, _, _ in told(found)], [expected])


class AppTests(unittest.TestCase):
    """Low-code apps: stamps, positions and control ids are looks; formulas are compared as tokens."""

    APP = {
        "name": "Berth desk",
        "saved_at": "2026-03-01",
        "screens": [
            {
                "name": "Home",
                "controls": [
                    {
                        "name": "Go",
                        "controlId": "12",
                        "x": 4,
                        "y": 8,
                        "pressed": '=show(Detail, "fade")',
                        "visible": "=true",
                    },
                    {
                        "name": "List",
                        "controlId": "13",
                        "x": 4,
                        "y": 30,
                        "items": "=berths longer than(20)",
                        "children": [{"name": "Row", "text": "=row.name"}],
                    },
                ],
            },
            {"name": "Detail", "controls": []},
        ],
        "dataSources": [{"name": "Berths", "table": "berths.csv"}],
    }

    def changed(self, edit: Any) -> dict[str, Any]:
        other = copy.deepcopy(self.APP)
        edit(other)
        found = compared(self.APP, other, "berths.json")
        self.assertEqual(found["kind"], "app")
        return found

    def test_saving_again_is_cosmetic(self) -> None:
        def edit(app: Any) -> None:
            app["saved_at"] = "2026-04-01"
            control = app["screens"][0]["controls"][0]
            control.update(x=40, controlId="99", pressed='=show( Detail,\n "fade" )')

        found = self.changed(edit)
        self.assertEqual(told(found), [])
        self.assertEqual(len(found["findings"]), 4)

    def test_changed_formula_is_one_finding_at_its_control(self) -> None:
        def edit(app: Any) -> None:
            app["screens"][0]["controls"][1]["children"][0]["text"] = "=row.quay"

        self.assertEqual(
            told(self.changed(edit)),
            [("changed", "/screen:Home/control:List/control:Row", "text", "=row.name", "=row.quay")],
        )

    def test_removed_data_source_breaks(self) -> None:
        found = self.changed(lambda app: app.update(dataSources=[]))
        self.assertEqual(
            [(f["action"], f["type"], f["effect"]) for f in found["findings"]], [("removed", "data source", "breaks")]
        )

    def test_control_that_moves_to_another_screen_has_moved(self) -> None:
        def edit(app: Any) -> None:
            app["screens"][1]["controls"].append(app["screens"][0]["controls"].pop(1))

        self.assertEqual([(a, p) for a, p, *_ in told(self.changed(edit))], [("moved", "/screen:Detail/control:List")])
