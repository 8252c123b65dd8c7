"""Workflows: BPMN and DMN, other process descriptions in XML, graphs of nodes and edges in JSON and YAML."""

from __future__ import annotations

from typing import Any

from everyshelf.core.kinds.cosmetic import DRAWING, FIELDS_OF_EDITORS, STYLE, Cosmetic
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.outline.model import Effect, Part

_STEPS = [
    "task",
    "userTask",
    "serviceTask",
    "scriptTask",
    "sendTask",
    "receiveTask",
    "manualTask",
    "businessRuleTask",
    "callActivity",
    "subProcess",
    "transaction",
    "adHocSubProcess",
]
_EVENTS = ["startEvent", "endEvent", "intermediateCatchEvent", "intermediateThrowEvent", "boundaryEvent"]
_GATEWAYS = ["exclusiveGateway", "parallelGateway", "inclusiveGateway", "eventBasedGateway", "complexGateway"]


def _judge(action: str, part: Part, field: str | None, before: Any, after: Any) -> Effect | None:
    """Who starts the process or waits for its end relies on start events, names of messages, and form fields."""
    if part.type in ("message", "signal", "error", "escalation"):
        named = field in ("name", "errorCode", "escalationCode")
        return "breaks" if (field is None and action in ("removed", "renamed")) or named else None
    if part.type == "event" and field is None and action == "removed":
        return "breaks" if part.fields.get("element") == "startEvent" else None
    if field == "element" and before == "startEvent":
        return "breaks"
    if part.type == "formField" and field is None and action in ("removed", "renamed"):
        return "breaks"
    if field is not None and field.rpartition(".")[2] == "calledElement" and after in (None, ""):
        return "breaks"
    return None


TABLE = KindTable(
    id="workflow",
    types={
        **dict.fromkeys(_STEPS, "step"),
        **dict.fromkeys(_EVENTS, "event"),
        **dict.fromkeys(_GATEWAYS, "gateway"),
        "sequenceFlow": "connection",
        "messageFlow": "connection",
        "association": "annotation",
        "textAnnotation": "annotation",
        "potentialOwner": "assignment",
        "humanPerformer": "assignment",
        "performer": "assignment",
        "dataObject": "data",
        "dataObjectReference": "data",
        "dataStoreReference": "data",
        "nodes": "step",
        "steps": "step",
        "edges": "connection",
        "connections": "connection",
        "links": "connection",
        "group": "annotation",
    },
    derived={
        "incoming": "the connections say it already",
        "outgoing": "the connections say it already",
        "flowNodeRef": "each step knows its lane",
    },
    cosmetic_types=(
        DRAWING,
        STYLE,
        Cosmetic(frozenset({"BPMNDiagram", "DMNDI", "DMNDiagram"}), "layout only", made=True),
        Cosmetic(frozenset({"annotation", "documentation"}), "written for people: nothing acts on it"),
    ),
    cosmetic_fields=FIELDS_OF_EDITORS,
    unordered=frozenset(
        {
            "step",
            "event",
            "gateway",
            "connection",
            "lane",
            "data",
            "process",
            "message",
            "signal",
            "error",
            "participant",
        }
        | {"decision", "requirement", "input", "output", "data association", "annotation", "layout"}
    ),
    identity={"connection": ("from", "to")},
    lasting_keys=True,
    judge=_judge,
)
