"""Where a file's own program drew things: diagram interchange of BPMN and DMN, and coordinates kept beside nodes.

Units are the file's own, with y growing downwards (OMG Diagram Definition 1.1, and what drawing programs do).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from everyshelf.core.answers.drawings import DrawnBox
from everyshelf.core.formats.xml import Element
from everyshelf.core.kinds.graphs import NODE_LISTS, id_field

_HOLDERS = ("position", "pos", "at", "layout", "ui", "metadata", "view", "coordinates")
# Programs that keep no sizes draw their nodes low, and set them as close.
_DEFAULT_WIDTH, _DEFAULT_HEIGHT = 130.0, 34.0


@dataclass(frozen=True)
class Box:
    """A rectangle, by its upper left corner."""

    x: float
    y: float
    width: float
    height: float

    def drawn(self) -> DrawnBox:
        """Rounded to tenths."""
        return DrawnBox(
            x=round(self.x, 1), y=round(self.y, 1), width=round(self.width, 1), height=round(self.height, 1)
        )


@dataclass
class Places:
    """Boxes by node id, and the points of connections by theirs."""

    boxes: dict[str, Box] = field(default_factory=dict)
    lines: dict[str, list[tuple[float, float]]] = field(default_factory=dict)


def places_of(tree: Any) -> Places:
    """All coordinates a parsed file holds; empty where it has none."""
    places = Places()
    if isinstance(tree, Element):
        for shape in _elements(tree):
            _from_interchange(shape, places)
    else:
        for node in _nodes(tree, 0):
            box = _from_node(node[1])
            if box is not None:
                places.boxes[node[0]] = box
    return places


def _elements(root: Element) -> Iterator[Element]:
    waiting = [root]
    while waiting:
        element = waiting.pop()
        yield element
        waiting.extend(c for c in element.children if isinstance(c, Element))


def _local(attributes: dict[str, str], name: str) -> str:
    return next((v for n, v in attributes.items() if n.rpartition("}")[2] == name), "")


def _from_interchange(element: Element, places: Places) -> None:
    owner = next((v for n, v in element.attributes.items() if n.endswith(("bpmnElement", "dmnElementRef"))), "")
    if not owner:
        return
    owner = owner.rpartition(":")[2]
    if element.name.endswith("Shape"):
        bounds = next((c for c in element.children if c.name == "Bounds"), None)
        box = _box(*(_local(bounds.attributes, n) for n in ("x", "y", "width", "height"))) if bounds else None
        if box is not None:
            places.boxes[owner] = box
    elif element.name.endswith("Edge"):
        points = [
            (x, y)
            for c in element.children
            if c.name == "waypoint"
            and (x := _number(_local(c.attributes, "x"))) is not None
            and (y := _number(_local(c.attributes, "y"))) is not None
        ]
        if len(points) > 1:
            places.lines[owner] = points


def _number(value: Any) -> float | None:
    if isinstance(value, bool):
        return None
    try:
        number = float(value)
    except (TypeError, ValueError):
        return None
    return number if abs(number) < 1e7 else None


def _box(x: Any, y: Any, width: Any, height: Any) -> Box | None:
    left, top = _number(x), _number(y)
    if left is None or top is None:
        return None
    wide, high = _number(width), _number(height)
    return Box(left, top, wide if wide and wide > 0 else _DEFAULT_WIDTH, high if high and high > 0 else _DEFAULT_HEIGHT)


def _nodes(value: Any, depth: int) -> Iterator[tuple[str, dict[str, Any]]]:
    """Id and object of everything in a list or map of nodes, also further down."""
    if depth > 12:
        return
    if isinstance(value, list):
        name = id_field(value)
        for child in value:
            if name is not None and isinstance(child, dict):
                yield str(child[name]), child
            yield from _nodes(child, depth + 1)
    elif isinstance(value, dict):
        for key, child in value.items():
            if key in NODE_LISTS and isinstance(child, dict):
                yield from ((str(k), v) for k, v in child.items() if isinstance(v, dict))
            yield from _nodes(child, depth + 1)


def _from_node(node: dict[str, Any]) -> Box | None:
    size = node.get("size") if isinstance(node.get("size"), dict) else node
    assert isinstance(size, dict)
    for holder in (
        node,
        *(node.get(n) for n in _HOLDERS),
    ):
        if isinstance(holder, list) and len(holder) == 2:
            return _box(holder[0], holder[1], size.get("width"), size.get("height"))
        if isinstance(holder, dict):
            for x, y in (("x", "y"), ("left", "top"), ("positionX", "positionY"), ("posX", "posY")):
                if x in holder and y in holder:
                    wide, high = (holder.get(n, size.get(n)) for n in ("width", "height"))
                    return _box(holder[x], holder[y], wide, high)
            inner = holder.get("position") if holder is not node else None
            if isinstance(inner, dict):
                return _box(inner.get("x"), inner.get("y"), size.get("width"), size.get("height"))
    return None
