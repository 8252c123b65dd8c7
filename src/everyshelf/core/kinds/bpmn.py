"""Workflows in BPMN 2.0 (OMG formal/2011-01-03) and decisions in DMN 1.x (OMG formal/2021-01-01), read for meaning.

Diagram interchange is kept apart, lists that mirror the connections are left out, a step knows its lane, an event what
it waits for, a connection its ends and condition; what vendors add becomes fields.
"""

from __future__ import annotations

from functools import cached_property
from typing import Any

from everyshelf.core.formats.xml import Element, local_name
from everyshelf.core.kinds.maker import Maker
from everyshelf.core.kinds.shapes import XmlShape
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.outline.model import Part, Scalar

# Subtrees that hold nothing but drawing: compared as one.
LAYOUT_ELEMENTS = ("}BPMNDiagram", "}DMNDI", "}DMNDiagram")
# Lists of a step's connections, which the connections say already.
MIRROR_ELEMENTS = ("}incoming", "}outgoing")
_HOLDERS = {"process", "subProcess", "transaction", "adHocSubProcess", "collaboration", "participant", "laneSet"}
_HOLDS_LANES = _HOLDERS | {"lane", "childLaneSet"}
_GIVEN_IDS = frozenset({"id"})


def read_bpmn(root: Element, table: KindTable) -> Part:
    """The root part of a ``definitions`` element; steps, events, gateways and connections keyed by their ids."""
    return _Reader(table, root).root(root)


def _flow_elements(element: Element) -> list[Element]:
    found, waiting = [], [element]
    while waiting:
        for child in waiting.pop().children:
            if "id" in child.attributes:
                found.append(child)
            if child.name in _HOLDERS:
                waiting.append(child)
    return found


def _name(element: Element) -> str:
    return element.attributes.get("name") or element.attributes.get("id") or element.name


def _lanes_of(root: Element) -> dict[str, str]:
    """Step id -> name of the innermost lane that lists it."""
    found: dict[str, str] = {}
    waiting = [root]
    while waiting:
        element = waiting.pop()
        for child in element.children:
            name = local_name(child.tag)
            if name == "lane":
                found.update({ref.text: _name(child) for ref in child.children if ref.name == "flowNodeRef"})
            if name in _HOLDS_LANES:
                waiting.append(child)
    return found


class _FlowPart(Part):
    """One element of a process; worked out only if it differs from its other version."""

    __slots__ = ("_element", "_fields", "_reader")

    def __init__(self, reader: _Reader, element: Element, part_type: str, identity_fields: tuple[str, ...]) -> None:
        identity = element.attributes.get("id")
        lane = reader.lanes.get(identity or "") if reader.lanes else None
        self.type, self.key = part_type, identity
        self.value = element._replace(attributes={**element.attributes, "lane": lane}) if lane else element
        self.expand = lambda: reader.below(element)
        self.ordered = self.through = self.sequence = False
        self.identity_fields = identity_fields
        self._reader, self._element = reader, element
        self._fields: dict[str, Scalar] | None = None

    @property
    def label(self) -> str:  # type: ignore[override]
        return self._reader.label(self._element)

    @property
    def fields(self) -> dict[str, Scalar]:  # type: ignore[override]
        if self._fields is None:
            self._fields = self._reader.fields(self.value)
        return self._fields


class _Reader:
    def __init__(self, table: KindTable, root: Element) -> None:
        self.table = table
        self.lanes = _lanes_of(root)
        self._root = root
        self._shape = XmlShape(table)
        self._places: dict[str, str] = {}
        self._types: dict[str, tuple[str, tuple[str, ...]]] = {}

    @cached_property
    def _names(self) -> dict[str, str]:
        return {e.attributes["id"]: _name(e) for e in _flow_elements(self._root)}

    def root(self, element: Element) -> Part:
        part = self._part(element)
        part.key, part.type = "", "workflow"
        return part

    def _part(self, element: Element) -> Part:
        found = self._types.get(element.tag)
        if found is None:
            part_type = self.table.types.get(element.name, element.name)
            found = self._types[element.tag] = part_type, self.table.identity_of(part_type)
        return _FlowPart(self, element, *found)

    def label(self, element: Element) -> str:
        given = element.attributes
        if "sourceRef" in given and "targetRef" in given:
            ends = (self._names.get(given[end], given[end]) for end in ("sourceRef", "targetRef"))
            return " → ".join(ends)
        return given.get("name") or given.get("id") or element.name

    def fields(self, element: Element) -> dict[str, Scalar]:
        """Attributes, what an event waits for, a condition, single texts, and what a vendor adds."""
        derived = self.table.derived
        found: dict[str, Scalar] = {}
        for name, value in element.attributes.items():
            local = name.rpartition("}")[2].rpartition(":")[2]
            if local not in derived and local not in _GIVEN_IDS:
                found["from" if local == "sourceRef" else "to" if local == "targetRef" else local] = value
        if element.text:
            found["text"] = element.text
        for child in element.children:
            name = child.name
            if name in derived:
                continue
            if name == "extensionElements":
                for extension in child.children:
                    found.update(_flattened(extension))
            elif name.endswith("EventDefinition"):
                found.update(_waited_for(child))
            elif name == "conditionExpression":
                found["condition"] = child.text
            elif child.text and _is_text(child):
                found[name] = child.text
        return found

    def below(self, element: Element) -> list[Part]:
        result: list[Part] = []
        extensions: list[Element] = []
        places, is_root = self._places, element.name == "definitions"
        for child in element.children:
            place = places.get(child.tag) or self._place(child.tag)
            if place == "part":
                if child.text and _is_text(child):
                    continue
                is_part = "id" in child.attributes or child.name in _HOLDERS
                result.append(self._part(child) if is_part else self._shape.part(child))
            elif place == "extensions":
                extensions.extend(child.children)
            elif place == "lanes":
                result.extend(self._part(lane) for lane in child.children if lane.name == "lane")
            elif place == "layout":
                result.append(Part("layout", "layout", child.name, child))
            elif place == "event" and is_root:
                result.append(self._part(child))
        for extension in extensions:
            result.extend(self._shape.part(e) for e in extension.children)
        return result

    def _place(self, tag: str) -> str:
        """What an element of that tag is to the one around it; looked up once."""
        name = local_name(tag)
        if name == "extensionElements":
            place = "extensions"
        elif name in self.table.derived or name == "conditionExpression":
            place = "nothing"
        elif name.endswith("EventDefinition"):
            place = "event"
        elif name == "laneSet":
            place = "lanes"
        else:
            place = "layout" if tag.endswith(LAYOUT_ELEMENTS) else "part"
        self._places[tag] = place
        return place


def _is_text(element: Element) -> bool:
    """A child that is nothing but one text, such as a script, a documentation or an assignment."""
    return not element.children and bool(element.text) and not (set(element.attributes) - {"id", "textFormat"})


def _waited_for(definition: Element) -> dict[str, Scalar]:
    """What an event waits for or throws: its sort, what it refers to, and the texts inside (a date, a cycle)."""
    sort = definition.name.removesuffix("EventDefinition")
    found: dict[str, Scalar] = {"event": sort}
    for name, value in definition.attributes.items():
        if name.rpartition("}")[2] not in _GIVEN_IDS:
            found[f"{sort}.{name.rpartition('}')[2]}"] = value
    for child in definition.children:
        found[f"{sort}.{child.name}"] = child.text
    return found


def _flattened(extension: Element) -> dict[str, Scalar]:
    """A vendor's element as fields ``element.attribute``; those with children become parts instead."""
    found: dict[str, Scalar] = {}
    if not extension.children:
        for name, value in extension.attributes.items():
            found[f"{extension.name}.{name.rpartition('}')[2]}"] = value
        if extension.text or not extension.attributes:
            found[extension.name] = extension.text
    return found


def read_dmn(root: Element, table: KindTable) -> Part:
    """The root part of DMN ``definitions``: decisions with inputs, outputs, and rules whose fields are the columns."""
    maker = Maker(table)
    children: list[Part] = []
    shape = XmlShape(table)
    for child in root.children:
        if child.tag.endswith(LAYOUT_ELEMENTS):
            children.append(Part("layout", "layout", child.name, child))
        elif child.name == "decision":
            children.append(_decision(child, maker, shape))
        else:
            children.append(shape.part(child))
    fields = {n.rpartition("}")[2]: v for n, v in root.attributes.items() if n != "id"}
    part = maker.part("workflow", root.attributes.get("name", "decisions"), "", fields, children)
    return part


def _decision(decision: Element, maker: Maker, shape: XmlShape) -> Part:
    children: list[Part] = []
    fields: dict[str, Any] = {"name": decision.attributes.get("name")}
    for child in decision.children:
        if child.name == "decisionTable":
            fields |= {n: child.attributes.get(n) for n in ("hitPolicy", "aggregation")}
            children.extend(_table_parts(child, maker))
        elif child.name == "literalExpression":
            fields["expression"] = next((c.text for c in child.children if c.name == "text"), child.text)
        elif child.name.endswith("Requirement"):
            href = next((c.attributes.get("href", "") for c in child.children), "")
            children.append(maker.part("requirement", href, href, {"requires": href}))
        elif _is_text(child):
            fields[child.name] = child.text
        elif child.name != "variable" or child.attributes.get("typeRef"):
            children.append(shape.part(child))
    identity = decision.attributes.get("id") or fields["name"]
    return maker.part("decision", fields["name"] or identity or "decision", identity, fields, children)


def _table_parts(table: Element, maker: Maker) -> list[Part]:
    inputs = [c for c in table.children if c.name == "input"]
    outputs = [c for c in table.children if c.name == "output"]
    names = [_column(c, f"input {k}") for k, c in enumerate(inputs, 1)]
    names += [_column(c, f"output {k}") for k, c in enumerate(outputs, 1)]
    parts = []
    for column, name in zip([*inputs, *outputs], names, strict=True):
        fields: dict[str, Any] = {n: v for n, v in column.attributes.items() if n != "id"}
        for below in column.children:
            fields |= {n: v for n, v in below.attributes.items() if n != "id"}
            fields[below.name] = "\n".join(t.text for t in below.children) or below.text or None
        parts.append(maker.part(column.name, name, name, fields))
    for row in (c for c in table.children if c.name == "rule"):
        cells = [c for c in row.children if c.name in ("inputEntry", "outputEntry")]
        texts = [next((t.text for t in c.children if t.name == "text"), c.text) for c in cells]
        note = next((c.text for c in row.children if c.name == "description"), None)
        fields = dict(zip(names, texts, strict=False))
        label = " | ".join(t or "-" for t in texts)
        parts.append(maker.part("rule", label, row.attributes.get("id"), {**fields, "description": note}))
    return parts


def _column(column: Element, fallback: str) -> str:
    expression = next((t.text for c in column.children for t in c.children if t.name == "text"), "")
    return column.attributes.get("label") or column.attributes.get("name") or expression or fallback
