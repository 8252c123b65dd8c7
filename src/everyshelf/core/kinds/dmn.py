"""Decisions in DMN 1.x (OMG formal/2021-01-01), read for meaning: inputs, outputs, and rules as rows of a table."""

from __future__ import annotations

from typing import Any

from everyshelf.core.formats.xml import Element, local_name
from everyshelf.core.kinds.bpmn import LAYOUT_ELEMENTS, is_text
from everyshelf.core.kinds.maker import Maker
from everyshelf.core.kinds.shapes import XmlShape
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.outline.model import Part

_GIVEN_IDS = frozenset({"id"})


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
    fields = {"element": root.name, **_attributes(root)}
    return maker.part("workflow", root.attributes.get("name", "decisions"), "", fields, children)


def _attributes(element: Element, prefix: str = "") -> dict[str, Any]:
    return {f"{prefix}{local_name(n)}": v for n, v in element.attributes.items() if local_name(n) not in _GIVEN_IDS}


def _decision(decision: Element, maker: Maker, shape: XmlShape) -> Part:
    children: list[Part] = []
    fields: dict[str, Any] = _attributes(decision)
    for child in decision.children:
        if child.name == "decisionTable":
            fields |= _attributes(child)
            children.extend(_table_parts(child, maker, shape))
        elif child.name == "literalExpression":
            fields |= _attributes(child, "expression.")
            fields["expression"] = next((c.text for c in child.children if c.name == "text"), child.text)
            children.extend(shape.part(c) for c in child.children if c.name != "text")
        elif child.name.endswith("Requirement") and len(child.children) == 1:
            required = child.children[0]
            href = required.attributes.get("href", "")
            children.append(maker.part("requirement", href, href, {"requires": href, "as": required.name}))
        elif is_text(child) and child.name not in fields:
            fields[child.name] = child.text
        else:
            children.append(shape.part(child))
    name = decision.attributes.get("name")
    identity = decision.attributes.get("id") or name
    return maker.part("decision", name or identity or "decision", identity, fields, children)


def _table_parts(table: Element, maker: Maker, shape: XmlShape) -> list[Part]:
    inputs = [c for c in table.children if c.name == "input"]
    outputs = [c for c in table.children if c.name == "output"]
    names = [_column(c, f"input {k}") for k, c in enumerate(inputs, 1)]
    names += [_column(c, f"output {k}") for k, c in enumerate(outputs, 1)]
    parts = []
    for column, name in zip([*inputs, *outputs], names, strict=True):
        fields: dict[str, Any] = _attributes(column)
        for below in column.children:
            fields |= _attributes(below, f"{below.name}.")
            fields[below.name] = "\n".join(t.text for t in below.children) or below.text or None
        parts.append(maker.part(column.name, name, name, fields))
    for row in (c for c in table.children if c.name == "rule"):
        parts.append(_rule(row, names, maker, shape))
    parts += [shape.part(c) for c in table.children if c.name not in ("input", "output", "rule")]
    return parts


def _rule(row: Element, names: list[str], maker: Maker, shape: XmlShape) -> Part:
    cells = [c for c in row.children if c.name in ("inputEntry", "outputEntry")]
    texts = [next((t.text for t in c.children if t.name == "text"), c.text) for c in cells]
    fields: dict[str, Any] = dict(zip(names, texts, strict=False))
    for name, cell in zip(names, cells, strict=False):
        fields |= {f"{name}.{n}": v for n, v in _attributes(cell).items()}
    fields |= _attributes(row)
    rest = []
    for child in row.children:
        if child.name == "description" and "description" not in fields:
            fields["description"] = child.text
        elif child.name not in ("inputEntry", "outputEntry"):
            rest.append(shape.part(child))
    return maker.part("rule", " | ".join(t or "-" for t in texts), row.attributes.get("id"), fields, rest)


def _column(column: Element, fallback: str) -> str:
    expression = next((t.text for c in column.children for t in c.children if t.name == "text"), "")
    return column.attributes.get("label") or column.attributes.get("name") or expression or fallback
