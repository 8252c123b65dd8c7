"""A process in BPMN, as a drawing program writes it."""

from __future__ import annotations

import random
from itertools import pairwise
from typing import Any
from xml.etree import ElementTree as ET
from xml.sax.saxutils import escape, quoteattr

from bench.edits.flows import WORDS
from bench.edits.model import Edit, Format, with_value

_NS = "http://www.omg.org/spec/BPMN/20100524/MODEL"


def _make(dice: random.Random) -> dict[str, Any]:
    tasks = [
        {
            "id": f"Task_{n}",
            "name": f"{dice.choice(WORDS).title()} {n}",
            "assignee": dice.choice(WORDS),
            "doc": f"About {dice.choice(WORDS)} {n}." if dice.random() < 0.5 else "",
            "x": 100 * n,
        }
        for n in range(dice.randint(15, 60))
    ]
    flows = [
        {"id": f"Flow_{a['id']}_{b['id']}", "from": a["id"], "to": b["id"], "condition": ""} for a, b in pairwise(tasks)
    ]
    return {"name": "Boarding", "tasks": tasks, "flows": flows}


def _task(model: Any, key: str) -> Any:
    return next(t for t in model["tasks"] if t["id"] == key)


def _edit(dice: random.Random, model: Any, mark: str) -> Edit:
    tasks = model["tasks"]
    n = dice.randrange(len(tasks))
    key = tasks[n]["id"]
    what = dice.choice(["name", "assignee", "doc", "x", "add", "drop", "condition", "link", "process"])
    if what in ("name", "assignee") or (what == "doc" and tasks[n]["doc"]):
        return Edit(
            f"{key}.{what}",
            frozenset({(key, what)}),
            lambda m: _task(m, key).__setitem__(what, f"{what} <{mark}> & co"),
        )
    if what == "x":
        x = dice.randint(5000, 9999)
        return Edit(f"{key}.x", frozenset({(key, "x")}), lambda m: _task(m, key).__setitem__("x", x))
    if what == "add":
        touched = frozenset({("after", key), ("stays", key)})

        def add(m: Any) -> None:
            new = {"id": f"Task_new_{mark}", "name": f"New {mark}", "assignee": "crew", "doc": "", "x": 7}
            m["tasks"].insert(m["tasks"].index(_task(m, key)) + 1, new)
            m["flows"].insert(
                next((i for i, f in enumerate(m["flows"]) if f["from"] == key), len(m["flows"]) - 1) + 1,
                {"id": f"Flow_new_{mark}", "from": key, "to": new["id"], "condition": ""},
            )

        return Edit(
            f"+task after {key}",
            touched | {("link", key)} | ({("link", tasks[n - 1]["id"])} if n == len(tasks) - 1 else set()),
            add,
        )
    if what == "drop":
        touched = frozenset(
            [(key, f) for f in ("name", "assignee", "doc", "x")]
            + [
                ("stays", key),
                ("after", key),
                ("after", tasks[n - 1]["id"]),
                ("link", key),
                ("link", tasks[n - 1]["id"]),
                ("link", tasks[max(0, n - 2)]["id"]),
            ]
        )

        def drop(m: Any) -> None:
            m["tasks"] = [t for t in m["tasks"] if t["id"] != key]
            m["flows"] = [f for f in m["flows"] if key not in (f["from"], f["to"])]

        return Edit(f"-task {key}", touched, drop)
    if what == "condition" and n < len(tasks) - 1:
        return Edit(
            f"condition of {key}",
            frozenset({("link", key), ("stays", key)}),
            lambda m: next(f for f in m["flows"] if f["from"] == key).__setitem__(
                "condition", f"${{fare > {len(mark)} && {mark}}}"
            ),
        )
    if what == "link" and n < len(tasks) - 1:
        to = dice.choice(tasks)["id"]
        if to not in (key, tasks[n + 1]["id"]):
            touched = frozenset({("link", key), ("stays", key), ("stays", to), ("stays", tasks[n + 1]["id"])})
            return Edit(
                f"flow of {key} to {to}",
                touched,
                lambda m: next(f for f in m["flows"] if f["from"] == key).__setitem__("to", to),
            )
    return Edit("name of the process", frozenset({"process"}), lambda m: m.__setitem__("name", f"Boarding {mark}"))


def _same(dice: random.Random, model: Any) -> tuple[Edit, Edit]:
    key = dice.choice(model["tasks"])["id"]
    field = dice.choice(["name", "assignee"])
    touched = frozenset({(key, f) for f in ("name", "assignee", "doc", "x")} | {("stays", key)})
    edits = [
        Edit(f"{key}.{field}", touched, with_value(v, lambda m, v: _task(m, key).__setitem__(field, v)))
        for v in ("one thing", "another")
    ]
    return edits[0], edits[1]


def _write(model: Any) -> str:
    out = [
        '<?xml version="1.0" encoding="UTF-8"?>',
        f'<bpmn:definitions xmlns:bpmn="{_NS}" xmlns:bpmndi="http://www.omg.org/spec/BPMN/20100524/DI" xmlns:dc="http://www.omg.org/spec/DD/20100524/DC" xmlns:x="urn:skerry" id="Definitions_1" targetNamespace="urn:skerry">',
        f'  <bpmn:process id="Process_1" name={quoteattr(model["name"])} isExecutable="true">',
    ]
    for task in model["tasks"]:
        out.append(
            f'    <bpmn:userTask id="{task["id"]}" name={quoteattr(task["name"])} x:assignee={quoteattr(task["assignee"])}>'
        )
        if task["doc"]:
            out.append(f"      <bpmn:documentation>{escape(task['doc'])}</bpmn:documentation>")
        out += [f"      <bpmn:incoming>{f['id']}</bpmn:incoming>" for f in model["flows"] if f["to"] == task["id"]]
        out += [f"      <bpmn:outgoing>{f['id']}</bpmn:outgoing>" for f in model["flows"] if f["from"] == task["id"]]
        out.append("    </bpmn:userTask>")
    for flow in model["flows"]:
        head = f'    <bpmn:sequenceFlow id="{flow["id"]}" sourceRef="{flow["from"]}" targetRef="{flow["to"]}"'
        if flow["condition"]:
            out += [
                f"{head}>",
                f"      <bpmn:conditionExpression>{escape(flow['condition'])}</bpmn:conditionExpression>",
                "    </bpmn:sequenceFlow>",
            ]
        else:
            out.append(f"{head} />")
    out += [
        "  </bpmn:process>",
        '  <bpmndi:BPMNDiagram id="Diagram_1">',
        '    <bpmndi:BPMNPlane id="Plane_1" bpmnElement="Process_1">',
    ]
    for task in model["tasks"]:
        out += [
            f'      <bpmndi:BPMNShape id="{task["id"]}_di" bpmnElement="{task["id"]}">',
            f'        <dc:Bounds x="{task["x"]}" y="80" width="100" height="80" />',
            "      </bpmndi:BPMNShape>",
        ]
    return "\n".join([*out, "    </bpmndi:BPMNPlane>", "  </bpmndi:BPMNDiagram>", "</bpmn:definitions>", ""])


def _read(text: str) -> Any:
    """A tree in which the order of what is known by an id does not count, as it does not in a process."""

    def told(e: ET.Element) -> Any:
        children = [told(c) for c in e]
        return e.tag, sorted(e.attrib.items()), (e.text or "").strip(), sorted(children, key=repr)

    return told(ET.fromstring(text))


XML = Format("XML/BPMN", "boarding.bpmn", _make, _edit, _same, _write, _read)
