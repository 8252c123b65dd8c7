"""The tables of the kinds that are read into an outline. Mirrored in docs/kinds.md."""

from __future__ import annotations

from everyshelf.core.kinds.table import KindTable

_LAYOUT_FIELDS = frozenset(
    {
        "x",
        "y",
        "width",
        "height",
        "position",
        "positionX",
        "positionY",
        "zIndex",
        "color",
        "colour",
        "description",
        "doc",
        "label",
        "comment",
        "notes",
    }
)

PIPELINE = KindTable(
    id="pipeline",
    types={
        "steps": "step",
        "inputs": "input",
        "outputs": "output",
        "parameters": "parameter",
        "tasks": "step",
        "jobs": "step",
        "stages": "step",
        "nodes": "step",
        "activities": "step",
        "connections": "connection",
        "edges": "connection",
        "links": "connection",
        "triggers": "trigger",
        "in": "source",
    },
    cosmetic_types=frozenset({"layout", "editor", "ui", "canvas"}),
    cosmetic_fields=_LAYOUT_FIELDS | {"saved_at", "savedAt", "modified", "exported_at", "editorVersion"},
    unordered=frozenset({"step", "input", "output", "parameter", "connection", "source"}),
    breaks=frozenset({("removed", "input"), ("removed", "output"), ("renamed", "input"), ("renamed", "output")}),
    identity={"connection": ("from", "to")},
)

_BPMN_STEPS = (
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
)
_BPMN_EVENTS = ("startEvent", "endEvent", "intermediateCatchEvent", "intermediateThrowEvent", "boundaryEvent")
_BPMN_GATEWAYS = ("exclusiveGateway", "parallelGateway", "inclusiveGateway", "eventBasedGateway", "complexGateway")

WORKFLOW = KindTable(
    id="workflow",
    types={
        **dict.fromkeys(_BPMN_STEPS, "step"),
        **dict.fromkeys(_BPMN_EVENTS, "event"),
        **dict.fromkeys(_BPMN_GATEWAYS, "gateway"),
        "sequenceFlow": "connection",
        "messageFlow": "connection",
        "association": "connection",
        "potentialOwner": "assignment",
        "humanPerformer": "assignment",
        "performer": "assignment",
        "BPMNDiagram": "layout",
        "DMNDI": "layout",
        "nodes": "step",
        "edges": "connection",
        "connections": "connection",
        "links": "connection",
    },
    derived=frozenset({"incoming", "outgoing", "flowNodeRef"}),
    cosmetic_types=frozenset({"layout"}),
    cosmetic_fields=_LAYOUT_FIELDS - {"label"} | {"exporter", "exporterVersion", "documentation"},
    unordered=frozenset({"*"}),
    breaks=frozenset(
        {
            ("removed", "message"),
            ("renamed", "message"),
            ("removed", "signal"),
            ("renamed", "signal"),
            ("changed", "message", "name"),
            ("changed", "signal", "name"),
            ("removed", "error"),
        }
    ),
)

APP = KindTable(
    id="app",
    types={
        "screens": "screen",
        "pages": "screen",
        "controls": "control",
        "children": "control",
        "components": "control",
        "dataSources": "data source",
        "variables": "variable",
        "scripts": "script",
        "properties": "property",
    },
    cosmetic_types=frozenset({"layout", "editor"}),
    cosmetic_fields=_LAYOUT_FIELDS - {"label"} | {"savedAt", "saved_at", "exportedAt", "editorVersion", "buildStamp"},
    unordered=frozenset({"variable", "data source", "property"}),
    breaks=frozenset({("removed", "screen"), ("removed", "data source")}),
)

NOTEBOOK = KindTable(
    id="notebook",
    types={"cells": "cell", "outputs": "output", "worksheets": "worksheet"},
    cosmetic_types=frozenset({"output", "outputs", "metadata", "kernelspec", "language_info"}),
    cosmetic_fields=frozenset({"execution_count", "prompt_number", "nbformat_minor"}),
)

TESTS = KindTable(
    id="tests",
    types={"testsuite": "suite", "testcase": "case", "suites": "suite", "cases": "case", "steps": "step"},
    derived=frozenset({"tests", "failures", "errors", "skipped_count"}),
    cosmetic_fields=frozenset({"time", "timestamp", "hostname", "duration"}),
    unordered=frozenset({"suite", "case"}),
    breaks=frozenset({("added", "failure"), ("added", "error")}),
    identity={"case": ("classname", "name")},
)

API = KindTable(
    id="api",
    types={"paths": "path", "parameters": "parameter", "properties": "property", "responses": "answer"},
    cosmetic_fields=frozenset({"description", "summary", "title", "example"}),
    unordered=frozenset({"*"}),
    breaks=frozenset({("removed", "path"), ("removed", "answer"), ("removed", "property")}),
    identity={"parameter": ("in", "name")},
)

SETTINGS = KindTable(id="settings")
REPORT = KindTable(id="report")
MODEL = KindTable(
    id="model",
    types={
        "DataField": "input",
        "MiningField": "mining field",
        "NumericPredictor": "coefficient",
        "OutputField": "output",
    },
    cosmetic_types=frozenset({"Header", "Timestamp", "Application"}),
    breaks=frozenset({("added", "input"), ("removed", "input"), ("removed", "output"), ("renamed", "input")}),
)
OTHER = KindTable(id="opaque")

TABLES: dict[str, KindTable] = {
    table.id: table for table in (PIPELINE, WORKFLOW, APP, NOTEBOOK, TESTS, API, SETTINGS, REPORT, MODEL)
}


def table_for(kind: str) -> KindTable:
    """The kind's table, or an empty one."""
    return TABLES.get(kind, OTHER)
