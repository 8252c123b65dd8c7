"""Every reader survives every plain value wherever an id, a key, a name or an item may stand, and so do comparing, drawing,
merging and the pipe of the reading process."""

from __future__ import annotations

import copy
import json
import tempfile
import unittest
from pathlib import Path
from typing import Any

import yaml
from hypothesis import given
from hypothesis import strategies as st

from everyshelf.core.answers.base import as_json
from everyshelf.core.compare.artifact import ArtifactSide, compare_artifacts
from everyshelf.core.compare.options import CompareOptions
from everyshelf.core.kinds.registry import kind_ids
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.merge.artifact import Versions, merge_artifacts
from everyshelf.core.reading.messages import FileAt
from everyshelf.core.reading.worker import Worker
from everyshelf.core.tables.given import Given
from tests.support.factories import outlined
from tests.support.laws import law

# One small document of each kind that is written in JSON or YAML; every value and every key in it may be another.
DOCUMENTS: dict[str, Any] = {
    "pipeline": {
        "steps": [{"id": "a", "run": "x.py"}, {"id": "b", "needs": ["a"]}],
        "inputs": {"file": {"type": "File"}},
    },
    "cwl": {
        "cwlVersion": "v1.2",
        "class": "Workflow",
        "inputs": [{"id": "f", "type": ["null", "File"], "default": 1}],
        "outputs": {"o": {"type": {"type": "array", "items": "File"}, "outputSource": "s/out"}},
        "steps": [
            {"id": "s", "run": {"class": "CommandLineTool", "baseCommand": ["a"]}, "in": {"f": "f"}, "out": ["out"]}
        ],
    },
    "workflow": {
        "nodes": [{"id": "a", "name": "Scan", "x": 1, "y": 2}, {"id": "b", "wires": [["a"]]}],
        "edges": [{"id": "e", "from": "a", "to": "b"}],
    },
    "map of steps": {"steps": {"a": {"id": "a", "run": "x.py"}, "b": {"id": "b", "next": ["a"]}}},
    "app": {"screens": [{"name": "Home", "controls": [{"type": "button", "label": "Go", "id": "c1"}]}]},
    "notebook": {
        "nbformat": 4,
        "metadata": {"kernelspec": {"name": "python3"}},
        "cells": [{"cell_type": "code", "id": "c", "source": ["x = 1\n"], "metadata": {"tags": ["t"]}, "outputs": []}],
    },
    "tests": {"tests": [{"name": "boards", "steps": [{"id": "s", "command": "click"}], "assertions": ["seen"]}]},
    "api": {
        "openapi": "3.0.3",
        "info": {"title": "Tickets", "version": "1"},
        "paths": {
            "/tickets/{id}": {
                "get": {
                    "parameters": [{"name": "id", "in": "path", "required": True, "schema": {"type": "string"}}],
                    "responses": {
                        "200": {"content": {"application/json": {"schema": {"$ref": "#/components/schemas/T"}}}}
                    },
                }
            }
        },
        "components": {"schemas": {"T": {"type": "object", "required": ["a"], "properties": {"a": {"enum": [1, 2]}}}}},
    },
    "settings": {"ferries": {"Skerry": {"berths": 2}, "Corran": {"berths": 1}}, "ports": ["a", "b"]},
}
SCALARS = st.one_of(
    st.none(),
    st.booleans(),
    st.integers(-3, 3),
    st.sampled_from([2**70, -(2**63), 0.5, 1e300, "", " ", "1", "true", "a/b", "{}", "[]", "é", "\u2028", "0o7"]),
)


def _places(tree: Any, path: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
    found = [path] if path else []
    if isinstance(tree, dict | list):
        for step, child in tree.items() if isinstance(tree, dict) else enumerate(tree):
            found += _places(child, (*path, step))
    return found


@st.composite
def documents(draw: Any) -> tuple[str, Any]:
    """A document in which some values, and in YAML some keys, are other plain values."""
    name = draw(st.sampled_from(sorted(DOCUMENTS)))
    tree = copy.deepcopy(DOCUMENTS[name])
    for _ in range(draw(st.integers(1, 3))):
        path = draw(st.sampled_from(_places(tree)))
        holder = tree
        for step in path[:-1]:
            holder = holder[step]
        value = draw(SCALARS)
        if isinstance(holder, dict) and draw(st.booleans()):
            holder[value] = holder.pop(path[-1])
        else:
            holder[path[-1]] = value
    return name, tree


def _names(name: str) -> str:
    return {"cwl": "a.cwl", "notebook": "a.ipynb"}.get(name, "a.yaml")


class OddScalarTests(unittest.TestCase):
    """Plain values of any type, anywhere."""

    def check(self, note: str) -> None:
        self.assertNotIn("reader failed", note)
        self.assertNotIn("memory", note)

    @law(800)
    @given(documents())
    def test_reading_comparing_and_merging(self, drawn: tuple[str, Any]) -> None:
        name, tree = drawn
        old, new = (yaml.safe_dump(t, sort_keys=False, allow_unicode=True).encode() for t in (DOCUMENTS[name], tree))
        file, kind = _names(name), {"cwl": "pipeline", "map of steps": "workflow"}.get(name, name)
        for before, after in ((old, new), (new, old)):
            sides = ArtifactSide(file, before), ArtifactSide(file, after)
            found = compare_artifacts(*sides, CompareOptions(kind=kind)).as_json()
            self.check(found["note"])
            json.dumps(found)
        self.check(outlined(Given(file, new), Rules(), kind)["note"])
        merged = merge_artifacts(Versions(file, old, new, old), kind=kind)
        self.assertEqual(merged.content, new)
        other = yaml.safe_dump({**DOCUMENTS[name], "more": [1, None, True]}, sort_keys=False).encode()
        as_json(merge_artifacts(Versions(file, old, new, other), kind=kind).answer())

    def test_the_reading_process_tells_what_it_found(self) -> None:
        worker = Worker()
        self.addCleanup(worker.close)
        tree = {"steps": {1: {"run": "a"}, 2: {"needs": [1], "at": 2**70}, None: {"run": True}}}
        with tempfile.TemporaryDirectory() as folder:
            old, new = Path(folder, "old.yaml"), Path(folder, "new.yaml")
            old.write_text(yaml.safe_dump(tree))
            new.write_text(
                yaml.safe_dump({"steps": {**tree["steps"], 3: {"needs": [2], 7: "x", "id": 5, None: {1: 2}}}})
            )
            before, after = FileAt(old.name, str(old)), FileAt(new.name, str(new))
            for kind in kind_ids():
                with self.subTest(kind=kind):
                    found = worker.compare(before, after, CompareOptions(kind=kind))
                    self.check(found.note)
                    self.assertFalse(found.equal)
                    self.check(worker.outline(after, kind=kind).note)
                    worker.drawing(before, after, kind=kind)
                    worker.names(after)
