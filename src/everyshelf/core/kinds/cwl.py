"""Pipelines in the Common Workflow Language v1.0 to v1.2 (https://www.commonwl.org/v1.2/).

Map form and list form of inputs, outputs, steps and requirements are the same thing, and so are the short and the long
spelling of a type; every named thing is keyed by its name without the document's prefix.
"""

from __future__ import annotations

import json
from typing import Any

from everyshelf.core.kinds.maker import Maker
from everyshelf.core.kinds.shapes import DataShape
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.outline.model import Part

_LISTS = ("inputs", "outputs", "steps", "requirements", "hints", "in", "out", "$graph")
_OF_A_TYPE = ("type", "items", "symbols", "fields")


def read_cwl(tree: dict[str, Any], table: KindTable) -> Part:
    """The root part of a tool, an expression, a workflow, or a ``$graph`` of several."""
    reader = _Reader(table)
    if isinstance(tree.get("$graph"), list):
        maker = reader.maker
        processes = [reader.process(p, "process", _short(p.get("id", ""))) for p in _records(tree["$graph"], "id")]
        fields, rest = reader.split(tree)
        return maker.part("pipeline", "pipeline", "", fields, [*processes, *rest])
    return reader.process(tree, "pipeline", "")


def _short(identity: Any) -> str:
    text = str(identity)
    return text.rpartition("#")[2].rpartition("/")[2] or text


def _records(value: Any, key: str, plain: str = "") -> list[dict[str, Any]]:
    """List form of what may be a map: ``{a: X}`` is ``[{key: a, …X}]``; a plain X goes to the field ``plain``."""
    if isinstance(value, dict):
        items = []
        for name, content in value.items():
            if isinstance(content, dict):
                items.append({**content, key: name})
            else:
                items.append({key: name, plain: content} if plain else {key: name, "value": content})
        return items
    if isinstance(value, list):
        return [v if isinstance(v, dict) else {key: v} for v in value]
    return []


def type_text(value: Any) -> str:
    """One spelling of a type: ``string?`` for ``["null", "string"]``, ``File[]`` for an array of files."""
    if isinstance(value, list):
        options = [type_text(v) for v in value]
        if "null" in options and len(options) == 2:
            return next(o for o in options if o != "null") + "?"
        return " or ".join(sorted(options))
    if isinstance(value, dict):
        kind = value.get("type")
        if kind == "array":
            items = type_text(value.get("items"))
            return f"({items})[]" if " " in items else f"{items}[]"
        if kind == "enum":
            return "one of " + ", ".join(sorted(_short(s) for s in value.get("symbols", [])))
        if kind == "record":
            fields = ((f.get("name", ""), f.get("type")) for f in _records(value.get("fields"), "name", "type"))
            return "record of " + ", ".join(f"{_short(n)}: {type_text(t)}" for n, t in fields)
        return type_text(kind)
    return str(value)


def _beside_type(value: Any) -> dict[str, Any]:
    """What the spelling of a type leaves out: what its fields and items bind to, their formats, their texts."""
    if isinstance(value, list):
        found = [(k, _beside_type(v)) for k, v in enumerate(value, 1)]
        return {f"option {k}": below for k, below in found if below}
    if not isinstance(value, dict):
        return {}
    result = {k: v for k, v in value.items() if k not in _OF_A_TYPE}
    if isinstance(value.get("type"), dict | list):
        result |= _beside_type(value["type"])
    if below := _beside_type(value.get("items")):
        result["items"] = below
    fields = {}
    for field in _records(value.get("fields"), "name", "type"):
        kept = {k: v for k, v in field.items() if k not in ("name", "type")} | _beside_type(field.get("type"))
        if kept:
            fields[_short(field.get("name", ""))] = kept
    return {**result, "record fields": fields} if fields else result


def _one_line(values: list[Any]) -> str:
    """Words side by side; as JSON where that would read like other words."""
    plain = all(isinstance(v, str) and v and v.split() == [v] for v in values)
    return " ".join(values) if plain else _json(values) if values else ""


def _json(value: Any) -> str:
    return json.dumps(value, ensure_ascii=False, default=str)


class _Reader:
    def __init__(self, table: KindTable) -> None:
        self.maker = Maker(table)
        self._shape = DataShape(table)

    def process(self, tree: dict[str, Any], part_type: str, key: str) -> Part:
        children: list[Part] = []
        for name, one in (("inputs", "input"), ("outputs", "output")):
            children += [self._port(p, one) for p in _records(tree.get(name), "id", "type")]
        children += [self._step(s) for s in _records(tree.get("steps"), "id")]
        for name in ("requirements", "hints"):
            children += [self._requirement(r, name[:-1]) for r in _records(tree.get(name), "class")]
        fields, rest = self.split(tree)
        label = str(tree.get("label") or key or tree.get("class") or part_type)
        return self.maker.part(part_type, label, key, fields, [*children, *rest])

    def split(self, tree: dict[str, Any]) -> tuple[dict[str, Any], list[Part]]:
        """Scalars as fields; what is nested as parts of its own; lists of plain texts as one field.

        The lists of named things are read apart from it; one that is a plain value instead is a field.
        """
        fields: dict[str, Any] = {}
        nested: dict[str, Any] = {}
        for name, value in tree.items():
            if name in _LISTS and isinstance(value, dict | list):
                continue
            if isinstance(value, list) and not any(isinstance(v, dict | list) for v in value):
                fields[name] = _one_line(value)
            elif isinstance(value, dict | list):
                nested[name] = value
            else:
                fields[name] = value
        return fields, self._shape.members(nested)

    def _port(self, port: dict[str, Any], part_type: str) -> Part:
        name = _short(port.get("id", ""))
        fields, rest = self.split({k: v for k, v in port.items() if k not in ("id", "type", "default")})
        if "type" in port:
            fields["type"] = type_text(port["type"])
            beside, below = self.split(_beside_type(port["type"]))
            fields |= {f"type.{name}": value for name, value in beside.items()}
            rest += below
        if "default" in port:
            given = port["default"]
            fields["default"] = _json(given) if isinstance(given, dict | list) else given
        return self.maker.part(part_type, name, name, fields, rest)

    def _step(self, step: dict[str, Any]) -> Part:
        name = _short(step.get("id", ""))
        children = [self._source(s, name) for s in _records(step.get("in"), "id", "source")]
        for kind in ("requirements", "hints"):
            children += [self._requirement(r, kind[:-1]) for r in _records(step.get(kind), "class")]
        run = step.get("run")
        if isinstance(run, dict):
            children.append(self.process(run, "process", "run"))
        for output in _records(step.get("out"), "id"):
            more, below = self.split({k: v for k, v in output.items() if k != "id"})
            short = _short(output.get("id", ""))
            children.append(self.maker.part("output", f"{name}/{short}", short, more, below))
        fields, rest = self.split({k: v for k, v in step.items() if k not in ("id", "run")})
        fields["run"] = run if isinstance(run, str) else None
        return self.maker.part("step", name, name, fields, [*children, *rest])

    def _source(self, source: dict[str, Any], step: str) -> Part:
        name = _short(source.get("id", ""))
        fields, rest = self.split({k: v for k, v in source.items() if k not in ("id", "source")})
        given = source.get("source")
        given = given if isinstance(given, list) else [given] if given is not None else []
        fields["source"] = ", ".join(str(g).rpartition("#")[2] for g in given) or None
        return self.maker.part("source", f"{step}/{name}", name, fields, rest)

    def _requirement(self, requirement: dict[str, Any], part_type: str) -> Part:
        name = str(requirement.get("class", ""))
        fields, rest = self.split({k: v for k, v in requirement.items() if k != "class"})
        return self.maker.part(part_type, name, name, fields, rest)
