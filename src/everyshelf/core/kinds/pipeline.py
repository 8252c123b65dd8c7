"""Pipelines: CWL, and any JSON, YAML or XML whose named steps refer to each other."""

from __future__ import annotations

from typing import Any

from everyshelf.core.kinds.cosmetic import DRAWING, FIELDS_OF_EDITORS, STYLE, prose
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.outline.model import Effect, Part


def _judge(action: str, part: Part, field: str | None, before: Any, after: Any) -> Effect | None:
    """An input that callers must now give breaks; a narrower type does, a wider one does not.

    A CWL document's own id is cosmetic: nothing outside of it uses it.
    """
    if part.type in ("process", "pipeline") and field == "id":
        return "cosmetic"
    if part.type == "input" and field is None and action == "added":
        optional = "default" in part.fields or str(part.fields.get("type", "")).endswith("?")
        return "alters" if optional or part.fields.get("required") is False else "breaks"
    if part.type == "input" and field == "default" and action == "removed":
        return "breaks"
    if part.type in ("input", "output") and field == "type" and isinstance(before, str) and isinstance(after, str):
        widened = _options(before) <= _options(after) if part.type == "input" else _options(after) <= _options(before)
        return "alters" if widened else "breaks"
    return None


def _options(type_text: str) -> set[str]:
    """The types a spelled type allows: ``int?`` allows ``int`` and nothing."""
    plain = type_text.removesuffix("?")
    options = {plain} if plain.endswith("[]") else set(plain.split(" or "))
    for wide, narrow in (("double", "float"), ("long", "int"), ("float", "int"), ("double", "long")):
        if wide in options:
            options.add(narrow)
    return options | {"null"} if type_text.endswith("?") else options


TABLE = KindTable(
    id="pipeline",
    types={
        "steps": "step",
        "inputs": "input",
        "outputs": "output",
        "parameters": "parameter",
        "params": "parameter",
        "variables": "parameter",
        "tasks": "step",
        "jobs": "step",
        "stages": "step",
        "nodes": "step",
        "activities": "step",
        "actions": "step",
        "connections": "connection",
        "edges": "connection",
        "links": "connection",
        "triggers": "trigger",
        "in": "source",
        "depends_on": "dependency",
        "dependsOn": "dependency",
        "needs": "dependency",
        "upstream": "dependency",
        "requires": "dependency",
    },
    cosmetic_types=(DRAWING, STYLE),
    cosmetic_fields=(*FIELDS_OF_EDITORS, prose("label", "displayName", "display_name")),
    unordered=frozenset(
        {"step", "input", "output", "parameter", "connection", "source", "dependency", "process", "requirement", "hint"}
    ),
    breaks=frozenset({("removed", "input"), ("removed", "output"), ("renamed", "input"), ("renamed", "output")}),
    identity={"connection": ("from", "to")},
    judge=_judge,
)


def is_cwl(tree: Any) -> bool:
    """True for a document of the Common Workflow Language."""
    return isinstance(tree, dict) and "cwlVersion" in tree
