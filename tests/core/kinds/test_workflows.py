"""Workflows: BPMN and DMN as editors really save them, and graphs in the forms programs keep them in."""

from __future__ import annotations

import random
import re
import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from tests.support.factories import compared, told
from tests.support.laws import law

BPMN = "http://www.omg.org/spec/BPMN/20100524/MODEL"


def bpmn(steps: list[tuple[str, str]], flows: list[tuple[str, str, str]], extra: str = "", layout: int = 0) -> bytes:
    """A process of user tasks; incoming and outgoing lists and a diagram as an editor writes them."""
    ids = [identity for identity, _ in steps]
    body = "".join(
        f'<b:userTask id="{identity}" name="{name}">'
        + "".join(f"<b:incoming>{f}</b:incoming>" for f, _, end in flows if end == identity)
        + "".join(f"<b:outgoing>{f}</b:outgoing>" for f, start, _ in flows if start == identity)
        + "</b:userTask>"
        for identity, name in steps
    )
    body += "".join(f'<b:sequenceFlow id="{f}" sourceRef="{a}" targetRef="{b}"/>' for f, a, b in flows)
    shapes = "".join(
        f'<d:BPMNShape id="{i}_di" bpmnElement="{i}"><c:Bounds x="{k * 90 + layout}" y="{layout}" width="90" height="60"/></d:BPMNShape>'
        for k, i in enumerate(ids)
    )
    return (
        f'<b:definitions xmlns:b="{BPMN}" xmlns:d="http://www.omg.org/spec/BPMN/20100524/DI" '
        f'xmlns:c="http://www.omg.org/spec/DD/20100524/DC" id="defs"><b:process id="crew" isExecutable="true">{body}{extra}'
        f'</b:process><d:BPMNDiagram id="dia"><d:BPMNPlane id="plane" bpmnElement="crew">{shapes}</d:BPMNPlane></d:BPMNDiagram>'
        "</b:definitions>"
    ).encode()


STEPS = [("check", "Check crew"), ("call", "Call relief"), ("sail", "Cast off"), ("log", "Write log")]
FLOWS = [("f1", "check", "call"), ("f2", "call", "sail"), ("f3", "sail", "log")]


def of(before: bytes, after: bytes) -> dict[str, Any]:
    return compared(before, after, "crew.bpmn")


class BpmnTests(unittest.TestCase):
    """One difference between two saves is one finding."""

    def test_another_drawing_is_one_cosmetic_finding(self) -> None:
        found = of(bpmn(STEPS, FLOWS), bpmn(STEPS, FLOWS, layout=35))
        self.assertEqual([(f["effect"], f["type"]) for f in found["findings"]], [("cosmetic", "layout")])

    def test_connection_drawn_anew_touches_no_neighbour(self) -> None:
        rewired = [FLOWS[0], ("f2", "call", "log"), FLOWS[2]]
        found = of(bpmn(STEPS, FLOWS), bpmn(STEPS, rewired))
        self.assertEqual(told(found), [("changed", "/process:crew/connection:f2", "to", "Cast off", "Write log")])
        self.assertEqual(found["findings"][0]["detail"], "leads to")
        self.assertEqual(found["findings"][0]["label"], "Call relief")

    def test_renamed_step_is_one_changed_name(self) -> None:
        steps = [STEPS[0], ("call", "Phone relief"), *STEPS[2:]]
        self.assertEqual(
            told(of(bpmn(STEPS, FLOWS), bpmn(steps, FLOWS))),
            [("changed", "/process:crew/step:call", "name", "Call relief", "Phone relief")],
        )

    def test_regenerated_ids_are_the_same_steps(self) -> None:
        anew = {i: f"Activity_{k}x9" for k, (i, _) in enumerate(STEPS)}
        flows = [(f"Flow_{k}q", anew[a], anew[b]) for k, (_, a, b) in enumerate(FLOWS)]
        found = of(bpmn(STEPS, FLOWS), bpmn([(anew[i], n) for i, n in STEPS], flows))
        self.assertEqual(told(found), [])
        self.assertIn("ids regenerated", " ".join(f.get("detail", "") for f in found["findings"]))

    def test_change_is_seen_through_regenerated_ids(self) -> None:
        anew = {i: f"Activity_{k}x9" for k, (i, _) in enumerate(STEPS)}
        flows = [(f"Flow_{k}q", anew[a], anew[b]) for k, (_, a, b) in enumerate(FLOWS)]
        steps = [(anew[i], "Phone relief" if i == "call" else n) for i, n in STEPS]
        self.assertEqual(
            told(of(bpmn(STEPS, FLOWS), bpmn(steps, flows))),
            [("changed", "/process:crew/step:call", "name", "Call relief", "Phone relief")],
        )

    def test_steps_of_one_name_keep_their_places_under_new_ids(self) -> None:
        steps = [("a", "Wait"), ("b", "Wait"), ("c", "Sail"), ("d", "Wait")]
        flows = [("f1", "a", "b"), ("f2", "b", "c"), ("f3", "c", "d")]
        anew = {"a": "w1", "b": "w2", "c": "w3", "d": "w4"}
        found = of(
            bpmn(steps, flows),
            bpmn([(anew[i], n) for i, n in steps], [(f"g{k}", anew[a], anew[b]) for k, (_, a, b) in enumerate(flows)]),
        )
        self.assertEqual(told(found), [])

    def test_prefixes_order_and_line_ends_mean_nothing(self) -> None:
        before = bpmn(STEPS, FLOWS)
        text = before.decode().replace("b:", "bpmn2:").replace("xmlns:b=", "xmlns:bpmn2=")
        tasks = re.findall(r"<bpmn2:userTask.*?</bpmn2:userTask>", text)
        for task in tasks:
            text = text.replace(task, "")
        text = text.replace("</bpmn2:process>", "\r\n".join(reversed(tasks)) + "</bpmn2:process>")
        self.assertEqual(told(of(before, text.encode())), [])

    def test_condition_timer_and_vendor_settings_are_fields(self) -> None:
        extra = (
            '<b:boundaryEvent id="late" attachedToRef="call"><b:timerEventDefinition id="t1"><b:timeDuration>PT{m}M</b:timeDuration>'
            '</b:timerEventDefinition></b:boundaryEvent><b:sequenceFlow id="f9" sourceRef="late" targetRef="log">'
            "<b:conditionExpression>wind &gt; {w}</b:conditionExpression></b:sequenceFlow>"
            '<b:serviceTask id="post"><b:extensionElements><v:job xmlns:v="urn:v" type="{j}" retries="3"/></b:extensionElements></b:serviceTask>'
        )
        before = bpmn(STEPS, FLOWS, extra.format(m=15, w=20, j="mail"))
        for values, finding in (
            ({"m": 20, "w": 20, "j": "mail"}, ("event:late", "timer.timeDuration", "PT15M", "PT20M")),
            ({"m": 15, "w": 25, "j": "mail"}, ("connection:f9", "condition", "wind > 20", "wind > 25")),
            ({"m": 15, "w": 20, "j": "radio"}, ("step:post", "job.type", "mail", "radio")),
        ):
            part, field, old, new = finding
            self.assertEqual(
                told(of(before, bpmn(STEPS, FLOWS, extra.format(**values)))),
                [("changed", f"/process:crew/{part}", field, old, new)],
            )

    def test_step_that_changes_lane_says_so(self) -> None:
        lanes = '<b:laneSet id="ls"><b:lane id="l1" name="Harbour"><b:flowNodeRef>{0}</b:flowNodeRef></b:lane><b:lane id="l2" name="Bridge"><b:flowNodeRef>{1}</b:flowNodeRef></b:lane></b:laneSet>'
        found = of(bpmn(STEPS, FLOWS, lanes.format("check", "sail")), bpmn(STEPS, FLOWS, lanes.format("sail", "check")))
        self.assertEqual(
            sorted(told(found)),
            [
                ("changed", "/process:crew/step:check", "lane", "Harbour", "Bridge"),
                ("changed", "/process:crew/step:sail", "lane", "Bridge", "Harbour"),
            ],
        )

    def test_step_that_moves_into_a_subprocess_keeps_its_id(self) -> None:
        inner = '<b:subProcess id="sub" name="Leaving">{}</b:subProcess>'
        task = '<b:userTask id="extra" name="Sound horn"/>'
        found = of(bpmn(STEPS, FLOWS, inner.format("") + task), bpmn(STEPS, FLOWS, inner.format(task)))
        self.assertEqual(
            told(found),
            [
                (
                    "moved",
                    "/process:crew/step:sub/step:extra",
                    None,
                    "/process:crew/step:extra",
                    "/process:crew/step:sub/step:extra",
                )
            ],
        )

    def test_what_callers_rely_on_breaks(self) -> None:
        def with_message(name: str) -> bytes:
            return bpmn(STEPS, FLOWS).replace(
                b'<b:process id="crew"', f'<b:message id="m" name="{name}"/><b:process id="crew"'.encode()
            )

        found = of(with_message("crew.called"), with_message("crew.rung"))
        self.assertEqual([f["effect"] for f in found["findings"]], ["breaks"])
        start = '<b:startEvent id="s" name="Start"/>'
        found = of(bpmn(STEPS, FLOWS, start), bpmn(STEPS, FLOWS))
        self.assertEqual([(f["action"], f["effect"]) for f in found["findings"]], [("removed", "breaks")])

    def test_undeclared_vendor_prefix_is_read(self) -> None:
        before = bpmn(STEPS, FLOWS, '<b:serviceTask id="p" vendor:topic="mail"/>')
        found = of(before, before.replace(b'"mail"', b'"radio"'))
        self.assertEqual(found["read_as"], "workflow")
        self.assertEqual(told(found), [("changed", "/process:crew/step:p", "topic", "mail", "radio")])

    @law(40)
    @given(st.randoms(use_true_random=False))
    def test_each_single_edit_is_exactly_its_finding(self, rng: random.Random) -> None:
        count = rng.randint(4, 30)
        steps = [(f"step{k}", f"{rng.choice(['Check', 'Call', 'Load'])} {k}") for k in range(count)]
        flows = [(f"f{k}", f"step{k}", f"step{k + 1}") for k in range(count - 1)]
        place = rng.randrange(count - 1)
        edit = rng.choice(["name", "end", "add", "drop"])
        new_steps, new_flows = list(steps), list(flows)
        if edit == "name":
            new_steps[place] = (steps[place][0], "Quite another name")
            expected = [("changed", f"step:step{place}", "name")]
        elif edit == "end":
            other = (place + 3) % count
            if f"step{other}" in flows[place]:
                return
            new_flows[place] = (flows[place][0], flows[place][1], f"step{other}")
            expected = [("changed", f"connection:f{place}", "to")]
        elif edit == "add":
            new_steps.insert(place, ("brandnew", "Brand new thing"))
            expected = [("added", "step:brandnew", None)]
        else:
            new_flows.pop(place)
            expected = [("removed", f"connection:f{place}", None)]
        order = list(new_steps)
        rng.shuffle(order)
        found = of(bpmn(steps, flows), bpmn(order, new_flows, layout=rng.randint(1, 9)))
        self.assertEqual(
            [(a, p, f) for a, p, f, _, _ in told(found)], [(a, f"/process:crew/{p}", f) for a, p, f in expected]
        )


def dmn(rules: list[tuple[str, str, str]], label: str = "Wind") -> bytes:
    rows = "".join(
        f'<rule id="{i}"><inputEntry id="{i}a"><text>{a}</text></inputEntry><outputEntry id="{i}b"><text>{b}</text></outputEntry></rule>'
        for i, a, b in rules
    )
    return (
        '<definitions xmlns="https://www.omg.org/spec/DMN/20191111/MODEL/" id="d" name="sailing" namespace="urn:s">'
        f'<decision id="go" name="May sail"><decisionTable id="t" hitPolicy="FIRST"><input id="i" label="{label}"><inputExpression id="e" '
        'typeRef="number"><text>wind</text></inputExpression></input><output id="o" label="Verdict" typeRef="string"/>'
        f"{rows}</decisionTable></decision></definitions>"
    ).encode()


class DecisionTests(unittest.TestCase):
    """DMN: rules as the rows of a table."""

    RULES = [("r1", "&lt; 15", '"sail"'), ("r2", "[15..20]", '"ask"'), ("r3", "-", '"stay"')]

    def test_changed_cell_names_its_column(self) -> None:
        found = compared(dmn(self.RULES), dmn([self.RULES[0], ("r2", "[15..18]", '"ask"'), self.RULES[2]]), "may.dmn")
        self.assertEqual(told(found), [("changed", "/decision:go/rule:r2", "Wind", "[15..20]", "[15..18]")])

    def test_order_of_rules_counts_and_added_rule_is_one_finding(self) -> None:
        swapped = [self.RULES[1], self.RULES[0], self.RULES[2]]
        self.assertEqual([a for a, *_ in told(compared(dmn(self.RULES), dmn(swapped), "may.dmn"))], ["moved"])
        more = [*self.RULES, ("r4", "&gt; 40", '"stay"')]
        self.assertEqual([a for a, *_ in told(compared(dmn(self.RULES), dmn(more), "may.dmn"))], ["added"])


NODES = [
    {"id": "read", "type": "file", "name": "Read log", "x": 10, "y": 20},
    {"id": "clean", "type": "script", "name": "Clean", "x": 90, "y": 20, "settings": '{"drop": ["late"], "keep": 3}'},
    {"id": "post", "type": "mail", "name": "Post", "x": 170, "y": 20},
]


def forms(edges: list[tuple[str, str]], nodes: list[dict[str, Any]] = NODES) -> dict[str, Any]:
    """One graph in the forms in which programs keep it."""
    wires = {n["id"]: [b for a, b in edges if a == n["id"]] for n in nodes}
    return {
        "list": {"nodes": nodes, "edges": [{"id": f"{a}-{b}", "source": a, "target": b} for a, b in edges]},
        "pairs": {"nodes": nodes, "links": [[a, b] for a, b in edges]},
        "wires": [{**n, "wires": [wires[n["id"]]] if wires[n["id"]] else []} for n in nodes],
        "map": {
            "nodes": nodes,
            "connections": {a: {"main": [[{"node": b, "index": 0} for b in t]]} for a, t in wires.items() if t},
        },
        "next": {"steps": [{**n, "next": wires[n["id"]]} for n in nodes]},
        "ports": {
            "nodes": nodes,
            "edges": [{"from": {"node": a, "port": "out"}, "to": {"node": b, "port": "in"}} for a, b in edges],
        },
    }


EDGES = [("read", "clean"), ("clean", "post")]


class GraphTests(unittest.TestCase):
    """Graphs of nodes and edges, whatever the form of the edges."""

    def test_each_form_is_a_workflow_with_connections(self) -> None:
        for name, tree in forms(EDGES).items():
            with self.subTest(form=name):
                found = compared(tree, forms([("read", "post"), ("clean", "post")])[name], "flow.json")
                self.assertIn(found["kind"], ("workflow", "pipeline"))
                changed = [f for f in found["findings"] if f["effect"] != "cosmetic"]
                self.assertTrue(changed)
                self.assertEqual({f["type"] for f in changed}, {"connection"}, changed)

    def test_moving_a_node_on_the_canvas_is_cosmetic(self) -> None:
        moved = [{**NODES[0], "x": 400}, *NODES[1:]]
        for name, tree in forms(EDGES).items():
            with self.subTest(form=name):
                found = compared(tree, forms(EDGES, moved)[name], "flow.json")
                self.assertEqual(told(found), [])
                self.assertEqual([f["field"] for f in found["findings"]], ["x"])

    def test_setting_nested_as_json_in_a_text_is_told_by_itself(self) -> None:
        nodes = [NODES[0], {**NODES[1], "settings": '{"keep": 4, "drop": ["late"]}'}, NODES[2]]
        for name, tree in forms(EDGES).items():
            with self.subTest(form=name):
                found = told(compared(tree, forms(EDGES, nodes)[name], "flow.json"))
                self.assertEqual([(a, f, b, c) for a, _, f, b, c in found], [("changed", "keep", 3, 4)])
                self.assertIn("clean", found[0][1])

    def test_node_added_to_wires_is_one_node_and_its_connections(self) -> None:
        nodes = [*NODES, {"id": "keep", "type": "file", "name": "Keep copy", "x": 1, "y": 2}]
        found = compared(forms(EDGES)["wires"], forms([*EDGES, ("clean", "keep")], nodes)["wires"], "flow.json")
        self.assertEqual(
            sorted((a, p.rpartition("/")[2].partition(":")[0]) for a, p, *_ in told(found)),
            [("added", "connection"), ("added", "step")],
        )

    def test_regenerated_ids_in_a_graph_are_the_same_nodes(self) -> None:
        anew = {"read": "8f1a.2", "clean": "9c3b.7", "post": "77aa.1"}
        nodes = [{**n, "id": anew[n["id"]]} for n in NODES]
        for name in ("list", "wires", "map"):
            with self.subTest(form=name):
                found = compared(
                    forms(EDGES)[name], forms([(anew[a], anew[b]) for a, b in EDGES], nodes)[name], "flow.json"
                )
                self.assertEqual(told(found), [])


if __name__ == "__main__":
    unittest.main()
