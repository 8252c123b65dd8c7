"""The graph an outline holds: steps, events, gateways, decisions, ports, and what leads from one to another.

Paths are those of findings, so that a drawing can show what changed. Connections come from parts that say both ends,
from the sources a step names (``step/output``), from the steps it depends on, and from decisions it requires.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from everyshelf.core.compare.identity import key_of
from everyshelf.core.drawing.places import Box, Places
from everyshelf.core.outline.model import Part, child_path

# Part type -> shape; steps that hold steps become frames.
_SHAPES = {
    "step": "step",
    "event": "event",
    "gateway": "gateway",
    "data": "data",
    "decision": "step",
    "inputData": "port",
    "businessKnowledgeModel": "data",
    "knowledgeSource": "data",
    "input": "port",
    "output": "port",
}
_FRAMES = {"process": "frame", "participant": "frame", "lane": "lane"}
_PORTS = ("input", "output")
_BACK = ("depends_on", "dependsOn", "needs", "upstream", "requires", "after", "previous", "parents")
_FORWARD = (
    "next",
    "then",
    "on_success",
    "onSuccess",
    "on_failure",
    "onFailure",
    "on_error",
    "onError",
    "else",
    "default",
)
_DETAILS = (
    "implementation",
    "run",
    "assignee",
    "calledElement",
    "decisionRef",
    "event",
    "type",
    "uses",
    "operator",
    "script",
)
_MOST_DETAIL = 60
_WORD = re.compile(r"[\s,;]+")


@dataclass
class Node:
    """One thing drawn; ``group`` is the path of the frame it stands in, ``key`` its id among all."""

    path: str
    key: str
    type: str
    shape: str
    label: str
    detail: str = ""
    group: str = ""
    box: Box | None = None


@dataclass
class Edge:
    """One connection by the paths of its ends; ``part`` is the path of the part that says so."""

    part: str
    source: str
    target: str
    label: str = ""
    conditional: bool = False
    points: list[tuple[float, float]] = field(default_factory=list)


@dataclass
class Graph:
    """Nodes by path, and edges."""

    nodes: dict[str, Node] = field(default_factory=dict)
    edges: list[Edge] = field(default_factory=list)


def graph_of(root: Part, places: Places, identity: Mapping[str, Sequence[str]] | None = None) -> Graph | None:
    """The graph below ``root``, or None where there are fewer than two things to draw.

    ``identity``: per list the fields its items go by, as a comparison found them.
    """
    walker = _Walker(places, identity or {})
    walker.visit(root, "", "")
    graph = walker.finished()
    return graph if len(graph.nodes) > 1 else None


class _Walker:
    def __init__(self, places: Places, identity: Mapping[str, Sequence[str]]) -> None:
        self._places = places
        self._identity = identity
        self._graph = Graph()
        self._scopes: dict[str, dict[str, str]] = {}
        self._anywhere: dict[str, str] = {}
        self._connections: list[tuple[str, Part, str]] = []
        self._sources: list[tuple[str, str, str, str]] = []  # part, words, step's path, scope

    # --- walking -----------------------------------------------------------

    def visit(self, part: Part, path: str, group: str, owner: str = "") -> None:
        """Everything below ``part``; ``owner`` is the step all this belongs to."""
        base = path.rpartition("/")[0] if part.through else path
        known = self._identity.get(path or "/", ())
        count: dict[str, int] = {}
        for child in part.children():
            place = count[child.type] = count.get(child.type, 0) + 1
            here = child_path(base, child, _key(child, known) or f"#{place}")
            self._one(child, here, group, owner, part.label if part.through else "")

    def _one(self, part: Part, path: str, group: str, owner: str, list_name: str) -> None:
        fields = part.fields
        if part.through:
            self.visit(part, path, group, owner)
        elif part.type == "connection":
            self._connections.append((path, part, group))
        elif owner and (part.type == "dependency" or list_name in _BACK) and isinstance(fields.get("value"), str):
            self._sources.append((path, str(fields["value"]), owner, group))
        elif owner and part.type == "source":
            self._sources.append((path, str(fields.get("source") or ""), owner, group))
        elif owner and part.type == "requirement":
            self._sources.append((path, str(fields.get("requires") or "").lstrip("#"), owner, group))
        elif part.type in _SHAPES and not (part.type in _PORTS and owner):
            self._node(part, path, group, _SHAPES[part.type])
        elif part.type in _FRAMES and not owner:
            self._node(part, path, group, _FRAMES[part.type])
        else:
            self.visit(part, path, group, owner)

    def _node(self, part: Part, path: str, group: str, shape: str) -> None:
        fields = part.fields
        key = part.key or str(fields.get("id") or fields.get("name") or path)
        if shape == "event" and "endEvent" in str(getattr(part.value, "tag", "")):
            shape = "end"
        node = Node(path, key, part.type, shape, part.label, _detail(part), group, self._places.boxes.get(key))
        self._graph.nodes[path] = node
        scope = self._scopes.setdefault(group, {})
        for name in (key, fields.get("name")):
            if isinstance(name, str):
                scope.setdefault(name, path)
                self._anywhere.setdefault(name, path)
        for name in _BACK:
            if isinstance(fields.get(name), str):
                self._sources.append((path, str(fields[name]), path, group))
        if part.type == "output" and isinstance(fields.get("outputSource"), str):
            self._sources.append((path, str(fields["outputSource"]), path, group))
        if part.type == "step":
            for name in _FORWARD:
                if isinstance(fields.get(name), str):
                    self._connections.append((path, _Forward(part, key, str(fields[name]), name), group))
        inner = path if shape in ("step", "frame") else group
        self.visit(part, path, inner, "" if shape in ("frame", "lane") else path)

    # --- joining -----------------------------------------------------------

    def finished(self) -> Graph:
        """The graph with its connections, frames that hold nothing told as steps, single frames left out."""
        for path, part, scope in self._connections:
            fields = part.fields
            source, target = self._end(fields.get("from"), scope), self._end(fields.get("to"), scope)
            if source and target:
                words = fields.get("condition") or fields.get("name") or fields.get("label") or fields.get("output")
                points = self._places.lines.get(part.key or str(fields.get("id") or ""), [])
                label = str(words) if words is not None else ""
                self._graph.edges.append(Edge(path, source, target, label, bool(fields.get("condition")), points))
        for path, words, owner, scope in self._sources:
            for word in _WORD.split(words):
                source = self._end(word, scope)
                if source and source != owner:
                    label = word.partition("/")[2]
                    self._graph.edges.append(Edge(path, source, owner, label))
        self._tidy()
        return self._graph

    def _end(self, name: Any, scope: str) -> str:
        if not isinstance(name, str | int) or name == "":
            return ""
        text = str(name)
        first, _, rest = text.partition("/")
        if rest and (frame := self._scopes.get("", {}).get(first)) and self._graph.nodes[frame].shape == "frame":
            text = rest  # what a process names inside itself by its own name first
        for word in dict.fromkeys((text, text.partition("/")[0], text.partition(":")[0], text.partition(".")[0])):
            found = self._scopes.get(scope, {}).get(word) or self._anywhere.get(word)
            if found:
                return found
        return ""

    def _tidy(self) -> None:
        nodes = self._graph.nodes
        holding = {n.group for n in nodes.values() if n.shape != "lane"}
        frames = [n for n in nodes.values() if n.shape in ("frame", "step") and n.path in holding]
        for node in frames:
            node.shape = "frame"
        tops = [n for n in frames if not n.group]
        loose = [n for n in nodes.values() if not n.group and n.shape not in ("frame", "lane")]
        if len(tops) == 1 and not loose and tops[0].box is None:
            self._drop(tops[0])
        for node in [n for n in nodes.values() if n.shape == "frame" and n.path not in holding and n.box is None]:
            self._drop(node)
        ends = {e.source for e in self._graph.edges} | {e.target for e in self._graph.edges}
        for node in [n for n in nodes.values() if n.shape == "port" and n.path not in ends]:
            self._drop(node)
        for node in [n for n in nodes.values() if n.shape == "lane" and n.box is None]:
            self._drop(node)

    def _drop(self, node: Node) -> None:
        del self._graph.nodes[node.path]
        self._graph.edges = [e for e in self._graph.edges if node.path not in (e.source, e.target)]
        for other in self._graph.nodes.values():
            if other.group == node.path:
                other.group = node.group


class _Forward(Part):
    """A step's own word for what comes next, as a connection."""

    def __init__(self, step: Part, source: str, target: str, name: str) -> None:
        label = "" if name in ("next", "then") else name.replace("_", " ")
        super().__init__("connection", label, None, step.value, {"from": source, "to": target, "label": label or None})


def _key(part: Part, identity: Sequence[str]) -> str | None:
    if part.key is not None:
        return part.key
    if identity and all(part.fields.get(name) is not None for name in identity):
        return key_of(part, tuple(identity))
    name = part.fields.get("id") or part.fields.get("name")
    return str(name) if isinstance(name, str | int) else None


def _detail(part: Part) -> str:
    """One more line about a step: who or what does it."""
    for child in part.children() if part.type in ("step", "event") else ():
        if child.type == "assignment":
            return child.label[:_MOST_DETAIL]
    for name in _DETAILS:
        value = part.fields.get(name)
        if isinstance(value, str) and value and value != part.label and part.type not in ("decision",):
            return " ".join(value.split())[:_MOST_DETAIL]
    return ""
