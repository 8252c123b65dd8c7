"""Pipelines, the disruption workflow, and the gangway app."""

from __future__ import annotations

import json
from typing import Any

BPMN = "http://www.omg.org/spec/BPMN/20100524/MODEL"


def nightly_cwl(*, look_back: int = 2, skip_cancelled: bool = False, zones: bool = True, tide: bool = False) -> bytes:
    """The nightly load as a CWL workflow."""
    steps = ["read_gate_logs", "read_timetable"]
    text = [
        "cwlVersion: v1.2",
        "class: Workflow",
        "label: Nightly sailings load",
        "inputs:",
        "  run_date: {type: string}",
        f"  look_back_days: {{type: int, default: {look_back}}}",
        "  reject_limit: {type: int, default: 25}",
    ]
    if tide:
        text.append("  tides: {type: File}")
    text += ["outputs:", "  sailings: {type: File, outputSource: write_sailings/table}"]
    if zones:
        text.append("  zones: {type: File, outputSource: price_by_zone/zones}")
    text.append("steps:")
    text += _cwl_step("read_gate_logs", "read_logs.cwl", {"days": "look_back_days"}, "rows")
    text += _cwl_step("read_timetable", "read_timetable.cwl", {"day": "run_date"}, "rows")
    source = "read_gate_logs/rows"
    if skip_cancelled:
        steps.append("skip_cancelled")
        text += _cwl_step("skip_cancelled", "filter.cwl", {"rows": source}, "rows")
        source = "skip_cancelled/rows"
    joined = {"rows": source, "timetable": "read_timetable/rows"}
    if tide:
        joined["tides"] = "tides"
    text += _cwl_step("join_timetable", "join.cwl", joined, "rows")
    text += _cwl_step("price_by_zone", "price.cwl", {"rows": "join_timetable/rows"}, "[rows, zones]")
    text += _cwl_step("write_sailings", "append.cwl", {"rows": "price_by_zone/rows", "limit": "reject_limit"}, "table")
    return ("\n".join(text) + "\n").encode()


def _cwl_step(name: str, run: str, sources: dict[str, str], out: str) -> list[str]:
    lines = [f"  {name}:", f"    run: {run}", "    in:"]
    lines += [f"      {port}: {source}" for port, source in sources.items()]
    return [*lines, f"    out: {out if out.startswith('[') else f'[{out}]'}"]


def load_json(*, retries: int = 2, notify: bool = False, schedule: str = "02:30", indent: int = 2) -> bytes:
    """A pipeline in the company's own JSON."""
    steps: list[dict[str, Any]] = [
        {"id": "fetch", "type": "source", "settings": {"harbours": ["Aldwick", "Brae", "Corran"], "days": 2}},
        {"id": "check", "type": "filter", "depends_on": ["fetch"], "settings": {"rule": "passengers >= 0"}},
        {
            "id": "count",
            "type": "compute",
            "depends_on": ["check"],
            "settings": {"by": ["date", "vessel"], "pipeline": "nightly-sailings.cwl", "takes": "zones"},
        },
        {
            "id": "store",
            "type": "sink",
            "depends_on": ["count"],
            "settings": {"table": "passenger_counts", "mode": "append"},
            "retries": retries,
        },
    ]
    if notify:
        steps.append({"id": "notify", "type": "message", "depends_on": ["store"], "settings": {"to": "purser"}})
    return json.dumps(
        {"name": "passenger counts", "schedule": {"daily": schedule}, "steps": steps}, indent=indent
    ).encode()


def tide_yaml(*, both: bool = False) -> bytes:
    """The tide refresh, in YAML with comments."""
    harbours = "[Aldwick, Brae]" if both else "[Aldwick]"
    return (
        "# Fetches the tide tables once a week.\nname: tide table refresh\nschedule: {weekly: Mon, at: '04:00'}\n"
        f"parameters:\n  harbours: {harbours}\n  days_ahead: 120\nsteps:\n"
        "  - {id: fetch, run: fetch_tides.py}\n  - {id: clean, run: clean_tides.py, depends_on: [fetch]}\n"
        "  - {id: write, run: write_table.py, depends_on: [clean], output: data/tides.csv}\n"
    ).encode()


def disruption(
    *, tide_check: bool = False, shops: bool = False, approver: str = "duty officer", limit: int = 30, shift: int = 0
) -> bytes:
    """The disruption notice as BPMN 2.0; ``shift`` moves its drawing and nothing else."""
    steps = [
        ("event", "risk", "Sailing at risk"),
        ("gate", "late", f"Over {limit} min late?"),
        ("task", "draft", "Draft notice"),
        ("task", "approve", "Approve notice"),
        ("task", "send", "Send to passengers"),
        ("task", "log", "Log only"),
        ("end", "done", "Done"),
    ]
    flows = [
        ("f1", "risk", "late", ""),
        ("f2", "late", "draft", f"delay > {limit}"),
        ("f3", "late", "log", ""),
        ("f4", "draft", "approve", ""),
        ("f5", "approve", "send", ""),
        ("f6", "send", "done", ""),
        ("f7", "log", "done", ""),
    ]
    if tide_check:
        steps.insert(1, ("task", "tide", "Check tide window"))
        flows[0] = ("f1", "risk", "tide", "")
        flows.append(("f8", "tide", "late", ""))
    if shops:
        steps.insert(-2, ("task", "shops", "Notify island shops"))
        flows[5] = ("f6", "send", "shops", "")
        flows.append(("f9", "shops", "done", ""))
    return _bpmn("disruption_notice", "Disruption notice", steps, flows, {"approve": approver}, shift)


def refund(*, limit: int = 50, purser: bool = False) -> bytes:
    """Refund approval."""
    steps = [
        ("event", "asked", "Refund asked for"),
        ("gate", "over", f"Over {limit}?"),
        ("task", "pay", "Pay refund"),
        ("task", "decide", "Decide by hand"),
        ("end", "end", "Done"),
    ]
    flows = [
        ("r1", "asked", "over", ""),
        ("r2", "over", "decide", f"amount > {limit}"),
        ("r3", "over", "pay", ""),
        ("r4", "decide", "pay", ""),
        ("r5", "pay", "end", ""),
    ]
    return _bpmn("refund", "Refund approval", steps, flows, {"decide": "purser" if purser else "office"}, 0)


# Middles of what is drawn, and how large each sort is.
_PLACES = {
    "risk": (60, 140),
    "tide": (230, 50),
    "late": (380, 140),
    "draft": (620, 140),
    "approve": (620, 260),
    "send": (830, 260),
    "shops": (830, 370),
    "log": (620, 470),
    "done": (1000, 260),
    "asked": (60, 140),
    "over": (220, 140),
    "pay": (580, 140),
    "decide": (400, 260),
    "end": (740, 140),
}
_SIZES = {"event": (36, 36), "end": (36, 36), "gate": (120, 80), "task": (140, 62)}
_TAGS = {"event": "startEvent", "gate": "exclusiveGateway", "task": "userTask", "end": "endEvent"}


def _bpmn(
    identity: str,
    name: str,
    steps: list[tuple[str, str, str]],
    flows: list[tuple[str, str, str, str]],
    people: dict[str, str],
    shift: int,
) -> bytes:
    out = [
        '<?xml version="1.0" encoding="UTF-8"?>',
        f'<definitions xmlns="{BPMN}" xmlns:bpmndi="http://www.omg.org/spec/BPMN/20100524/DI"'
        ' xmlns:dc="http://www.omg.org/spec/DD/20100524/DC" xmlns:di="http://www.omg.org/spec/DD/20100524/DI" id="skerry" targetNamespace="urn:skerry-line">',
        f'  <process id="{identity}" name="{name}" isExecutable="true">',
    ]
    for kind, key, label in steps:
        out.append(f'    <{_TAGS[kind]} id="{key}" name="{label}">')
        out += [f"      <incoming>{f}</incoming>" for f, _, to, _ in flows if to == key]
        out += [f"      <outgoing>{f}</outgoing>" for f, start, _, _ in flows if start == key]
        if key in people:
            out.append(f'      <potentialOwner id="{key}_owner" name="{people[key]}"/>')
        out.append(f"    </{_TAGS[kind]}>")
    for key, start, end, condition in flows:
        inner = f"<conditionExpression>{condition.replace('>', '&gt;')}</conditionExpression>" if condition else ""
        out.append(f'    <sequenceFlow id="{key}" sourceRef="{start}" targetRef="{end}">{inner}</sequenceFlow>')
    out += ["  </process>", '  <bpmndi:BPMNDiagram id="diagram">', f'    <bpmndi:BPMNPlane bpmnElement="{identity}">']
    for kind, key, _ in steps:
        x, y = _PLACES[key]
        width, height = _SIZES[kind]
        out.append(
            f'      <bpmndi:BPMNShape bpmnElement="{key}"><dc:Bounds x="{x - width // 2 + shift}" y="{y - height // 2 + shift}"'
            f' width="{width}" height="{height}"/></bpmndi:BPMNShape>'
        )
    kinds = {key: kind for kind, key, _ in steps}
    for key, start, end, _ in flows:
        points = _course(start, end, kinds, shift)
        out.append(
            f'      <bpmndi:BPMNEdge bpmnElement="{key}">'
            + "".join(f'<di:waypoint x="{x}" y="{y}"/>' for x, y in points)
            + "</bpmndi:BPMNEdge>"
        )
    return ("\n".join([*out, "    </bpmndi:BPMNPlane>", "  </bpmndi:BPMNDiagram>", "</definitions>"]) + "\n").encode()


def _course(start: str, end: str, kinds: dict[str, str], shift: int) -> list[tuple[int, int]]:
    """A line of right angles from one step to another."""
    (ax, ay), (bx, by) = _PLACES[start], _PLACES[end]
    (aw, ah), (bw, bh) = _SIZES[kinds[start]], _SIZES[kinds[end]]
    down = 1 if by > ay else -1
    if ay == by:
        points = [(ax + aw // 2, ay), (bx - bw // 2, by)]
    elif ax == bx:
        points = [(ax, ay + down * ah // 2), (bx, by - down * bh // 2)]
    elif kinds[start] in ("gate", "event"):
        points = [(ax, ay + down * ah // 2), (ax, by), (bx - bw // 2, by)]
    else:
        points = [(ax + aw // 2, ay), (bx, ay), (bx, by - down * bh // 2)]
    return [(x + shift, y + shift) for x, y in points]


def gangway_app(*, button: int = 40, offline: bool = False, stamp: int = 1, scanner: str = "camera") -> bytes:
    """A low-code export: one JSON file with screens, the parts on them, and what they do in sentences."""
    parts = [
        {
            "id": "c1",
            "name": "scan button",
            "type": "button",
            "at": {"x": 12, "y": 300, "height": button},
            "says": "Scan ticket",
            "when pressed": "ticket := scan; show result",
        },
        {
            "id": "c2",
            "name": "sailing label",
            "type": "label",
            "at": {"x": 12, "y": 20},
            "says": "departs of the sailing that is on",
        },
    ]
    if offline:
        parts.append(
            {
                "id": "c3",
                "name": "offline banner",
                "type": "label",
                "at": {"x": 0, "y": 0},
                "says": "Out of reach: tickets are checked later",
                "shown when": "not connected",
            }
        )
    verdict = {
        "id": "c9",
        "name": "verdict",
        "type": "label",
        "says": "Welcome if ticket is valid, else Ask the purser",
    }
    screens = [
        {"id": "s1", "name": "Scan", "parts": parts},
        {"id": "s2", "name": "Result", "parts": [verdict]},
    ]
    for place, harbour in enumerate(("Aldwick", "Brae", "Corran", "Dunmore", "Eskholm")):
        berths = [
            {
                "id": f"h{place}c{n}",
                "name": f"berth {n}",
                "type": "label",
                "at": {"x": 10, "y": 30 * n},
                "says": f"vessel at berth {n} of {harbour}",
                "shown when": "always",
            }
            for n in range(1, 19)
        ]
        screens.append({"id": f"h{place}", "name": f"Harbour {harbour}", "parts": berths})
    app = {
        "app": "gangway check-in",
        "savedAt": f"2026-03-{stamp:02d}T08:00:00Z",
        "editorVersion": f"4.{stamp}",
        "screens": screens,
        "feeds": [{"name": "sailings", "kind": "table"}, {"name": "tickets", "kind": "table"}],
        "variables": [{"name": "sailing", "type": "text"}, {"name": "scanner", "type": "text", "value": scanner}],
    }
    return json.dumps(app, indent=1).encode()
