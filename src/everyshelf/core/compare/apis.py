"""Service description against service description: what callers send and what they get, widened or narrowed.

A narrowed input and a widened output break callers; the other way round they merely alter. A schema that both versions
name is compared once, under its name, in the directions in which operations use it.
"""

from __future__ import annotations

import re
from typing import Any, Literal

from everyshelf.core.compare.outlines import Run
from everyshelf.core.compare.same import canonical, same_value
from everyshelf.core.kinds.api import Description, Operation, as_list, as_object, is_schema, read_description
from everyshelf.core.kinds.shapes import DataShape
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.outline.model import Effect, Finding, Part, Step, child_path

Direction = Literal["sent", "got"]
_BOTH: frozenset[Direction] = frozenset({"sent", "got"})
_PROSE = (
    "description",
    "title",
    "example",
    "examples",
    "$comment",
    "$id",
    "$schema",
    "externalDocs",
    "deprecated",
)
_LOWER = ("minimum", "exclusiveMinimum", "minLength", "minItems", "minProperties")
_UPPER = ("maximum", "exclusiveMaximum", "maxLength", "maxItems", "maxProperties")
_CHOICES = ("oneOf", "anyOf", "allOf", "prefixItems")
_NESTED = (
    "items",
    "additionalProperties",
    "not",
    "contains",
    "propertyNames",
    "if",
    "then",
    "else",
    "unevaluatedProperties",
    "unevaluatedItems",
    "additionalItems",
)
_MAPS = ("patternProperties", "dependentSchemas")
_READ = {"type", "nullable", "enum", "const", "required", "properties", *_NESTED, *_MAPS, *_CHOICES}
_DEFINITIONS = frozenset({"$defs", "definitions"})  # compared under their own names
_SUCCESS = "2"
_LIKE_JSON = re.compile(r"-?[\d.]+|true|false|null|[\[{\"].*", re.DOTALL)
_MAX_SAID = 200


def compare_apis(before: Any, after: Any, table: KindTable) -> list[Finding]:
    """All findings between two parsed descriptions or schemas."""
    return _Apis(read_description(before), read_description(after), table).compare()


class _Apis:
    def __init__(self, before: Description, after: Description, table: KindTable) -> None:
        self._old, self._new = before, after
        self._run = Run(table)
        self._shape = DataShape(table)
        self._open: set[tuple[int, int]] = set()
        self.findings: list[Finding] = []

    def compare(self) -> list[Finding]:
        if is_schema(self._old.tree) and is_schema(self._new.tree):
            self._schema(self._old.tree, self._new.tree, "", frozenset({"sent"}), skip=_DEFINITIONS)
        else:
            self._generic(self._old.rest, self._new.rest, "")
            self._operations()
        self._schemas()
        return [*self.findings, *self._run.finished()]

    # --- findings ----------------------------------------------------------

    def _say(
        self,
        action: Step,
        path: str,
        part_type: str,
        label: str,
        effect: Effect,
        field: str | None = None,
        before: Any = None,
        after: Any = None,
        detail: str = "",
    ) -> None:
        if part_type == "property":
            holder = _at(path.rpartition("/")[0])[1]
            label = f"{holder}.{label}" if path.count("/") > 1 else label
        self.findings.append(Finding(action, path or "/", part_type, label, effect, field, before, after, detail))

    def _generic(self, before: dict[str, Any], after: dict[str, Any], path: str) -> None:
        """What has no rules of its own goes through the comparison of any outline."""
        old, new = (self._shape.root(tree, "api") for tree in (before, after))
        self._run.parts(old, new, path, cosmetic=False)

    # --- operations --------------------------------------------------------

    def _operations(self) -> None:
        old, new = self._old.operations, self._new.operations
        for key in dict.fromkeys([*old, *new]):
            path = _path("", "operation", key)
            if key not in new:
                self._say("removed", path, "operation", key, "breaks", before=old[key].rest.get("operationId"))
            elif key not in old:
                self._say("added", path, "operation", key, "alters", after=new[key].rest.get("operationId"))
            else:
                self._operation(old[key], new[key], path, key)

    def _operation(self, old: Operation, new: Operation, path: str, key: str) -> None:
        if old.path != new.path:
            said = "called differently in the path"
            self._say("changed", path, "operation", key, "cosmetic", "path", old.path, new.path, said)
        self._generic(old.rest, new.rest, path)
        self._parameters(old, new, path)
        self._bodies(old, new, path)
        for code in dict.fromkeys([*old.answers, *new.answers]):
            here = _path(path, "answer", code)
            if code not in new.answers:
                effect: Effect = "breaks" if code.startswith(_SUCCESS) else "alters"
                self._say("removed", here, "answer", code, effect)
            elif code not in old.answers:
                self._say("added", here, "answer", code, "alters")
            else:
                one, other = old.answers[code], new.answers[code]
                self._generic(one["rest"], other["rest"], here)
                self._media(one["bodies"], other["bodies"], here, frozenset({"got"}))

    def _parameters(self, old: Operation, new: Operation, path: str) -> None:
        for key in dict.fromkeys([*old.parameters, *new.parameters]):
            here = _path(path, "parameter", key)
            one, other = old.parameters.get(key), new.parameters.get(key)
            if other is None and one is not None:
                self._say("removed", here, "parameter", str(one["name"]), "breaks")
            elif one is None and other is not None:
                effect: Effect = "breaks" if other["required"] else "alters"
                detail = "required" if other["required"] else "optional"
                self._say("added", here, "parameter", str(other["name"]), effect, detail=detail)
            elif one is not None and other is not None:
                self._required(one["required"], other["required"], here, "parameter", str(other["name"]))
                self._generic(one["rest"], other["rest"], here)
                self._schema(one["schema"] or {}, other["schema"] or {}, here, frozenset({"sent"}))

    def _required(self, before: bool, after: bool, path: str, part_type: str, label: str) -> None:
        if before != after:
            effect: Effect = "breaks" if after else "alters"
            self._say("changed", path, part_type, label, effect, "required", before, after)

    def _bodies(self, old: Operation, new: Operation, path: str) -> None:
        here = _path(path, "body", "body")
        if old.bodies and not new.bodies:
            self._say("removed", here, "body", "body", "breaks")
        elif new.bodies and not old.bodies:
            self._say("added", here, "body", "body", "breaks" if new.body_required else "alters")
        elif new.bodies:
            self._required(old.body_required, new.body_required, here, "body", "body")
            self._media(old.bodies, new.bodies, here, frozenset({"sent"}))

    def _media(self, old: dict[str, Any], new: dict[str, Any], path: str, used: frozenset[Direction]) -> None:
        if len(old) == len(new) == 1 and "*/*" in (*old, *new):
            self._schema(next(iter(old.values())) or {}, next(iter(new.values())) or {}, path, used)
            return
        said: set[tuple[int, int]] = set()
        for media in dict.fromkeys([*old, *new]):
            here = _path(path, "media", media)
            if media not in new:
                self._say("removed", here, "media", media, "breaks")
            elif media not in old:
                self._say("added", here, "media", media, "alters")
            elif (id(old[media]), id(new[media])) not in said:
                said.add((id(old[media]), id(new[media])))
                self._schema(old[media] or {}, new[media] or {}, path, used)

    # --- schemas -----------------------------------------------------------

    def _schemas(self) -> None:
        old, new = self._old.schemas, self._new.schemas
        uses = self._uses()
        gone = [n for n in old if n not in new]
        for name in gone:
            twin = next((n for n in new if n not in old and same_value(old[name], new[n])), None)
            if twin is not None:
                self._say("renamed", _path("", "schema", twin), "schema", twin, "cosmetic", before=name, after=twin)
            else:
                self._say("removed", _path("", "schema", name), "schema", name, "alters")
        twins = {f.after for f in self.findings if f.action == "renamed"}
        for name in new:
            here = _path("", "schema", name)
            if name in old:
                self._schema(old[name], new[name], here, uses.get(name, _BOTH if uses else frozenset({"sent"})))
            elif name not in twins:
                self._say("added", here, "schema", name, "alters")

    def _uses(self) -> dict[str, frozenset[Direction]]:
        """Schema -> whether callers send it, get it, or both, in either version, through other schemas too."""
        found: dict[str, set[Direction]] = {}
        for described in (self._old, self._new):
            for operation in described.operations.values():
                for parameter in operation.parameters.values():
                    _note(described, parameter["schema"], "sent", found)
                for schema in operation.bodies.values():
                    _note(described, schema, "sent", found)
                for answer in operation.answers.values():
                    for schema in answer["bodies"].values():
                        _note(described, schema, "got", found)
        return {name: frozenset(used) for name, used in found.items()}

    def _schema(
        self, old: Any, new: Any, path: str, used: frozenset[Direction], skip: frozenset[str] = frozenset()
    ) -> None:
        beside = [_beside_reference(schema) for schema in (old, new)]
        if any(beside):
            # Since 2019 keywords beside a reference hold as well.
            self._keywords(beside[0], beside[1], path, used, skip)
            old, new = (_reference_alone(schema, rest) for schema, rest in zip((old, new), beside, strict=True))
        one, name = self._old.resolve(old)
        other, new_name = self._new.resolve(new)
        if name is not None and name == new_name and name in self._old.schemas and path != _path("", "schema", name):
            return  # compared once, under its own name
        if (id(one), id(other)) in self._open or (same_value(one, other) and not _refers(one)):
            return
        if not isinstance(one, dict) or not isinstance(other, dict):
            if not same_value(one, other):
                self._narrowing("schema", one, other, path, used, narrowed=True, widened=True)
            return
        said = len(self.findings)
        self._open.add((id(one), id(other)))
        self._keywords(one, other, path, used, skip)
        if len(self.findings) > said:
            # Found equal, a pair is never looked at again; found different, it is told wherever it is used.
            self._open.discard((id(one), id(other)))

    def _keywords(
        self, old: dict[str, Any], new: dict[str, Any], path: str, used: frozenset[Direction], skip: frozenset[str]
    ) -> None:
        self._types(old, new, path, used)
        self._values(old, new, path, used)
        self._properties(old, new, path, used)
        for name in _NESTED:
            one, other = old.get(name), new.get(name)
            if isinstance(one, dict) and isinstance(other, dict):
                self._schema(one, other, f"{path}/{name}:{name}", used)
            elif not same_value(one, other) and (name in old or name in new):
                closed = name == "additionalProperties" and other is False
                opened = name == "additionalProperties" and one is False
                known = closed or opened
                self._narrowing(
                    name,
                    _said(one),
                    _said(other),
                    path,
                    used,
                    narrowed=closed or not known,
                    widened=opened or not known,
                )
        for name in _MAPS:
            self._named(name, as_object(old.get(name)), as_object(new.get(name)), path, used)
        for name in _CHOICES:
            self._choices(name, as_list(old.get(name)), as_list(new.get(name)), path, used)
        self._choices("type", _type_schemas(old), _type_schemas(new), path, used)
        self._limits(old, new, path, used, skip)

    def _limits(
        self, old: dict[str, Any], new: dict[str, Any], path: str, used: frozenset[Direction], skip: frozenset[str]
    ) -> None:
        """Keywords that hold a plain value."""
        for name in dict.fromkeys([*old, *new]):
            if name in _READ or name in skip or same_value(old.get(name), new.get(name)):
                continue
            before, after = _said(old.get(name)), _said(new.get(name))
            if name in old and name in new and isinstance(old[name], dict) and isinstance(new[name], dict):
                self._generic({name: old[name]}, {name: new[name]}, path)
            elif name in _PROSE:
                self._say(_step(old, new, name), path, *_at(path), "cosmetic", name, before, after)
            elif name in _LOWER or name in _UPPER:
                low, high = old.get(name), new.get(name)
                if isinstance(low, int | float) and isinstance(high, int | float):
                    narrower = (high > low) == (name in _LOWER)
                else:
                    narrower = low is None
                self._narrowing(name, before, after, path, used, narrowed=narrower, widened=not narrower)
            elif name == "default":
                self._say(_step(old, new, name), path, *_at(path), "alters", name, before, after)
            else:
                added, removed = name not in old, name not in new
                self._narrowing(name, before, after, path, used, narrowed=not removed, widened=not added)

    def _narrowing(
        self,
        name: str,
        before: Any,
        after: Any,
        path: str,
        used: frozenset[Direction],
        *,
        narrowed: bool,
        widened: bool,
    ) -> None:
        breaks = (narrowed and "sent" in used) or (widened and "got" in used)
        detail = "narrowed" if narrowed and not widened else "widened" if widened and not narrowed else ""
        self._say("changed", path, *_at(path), "breaks" if breaks else "alters", name, before, after, detail)

    def _types(self, old: dict[str, Any], new: dict[str, Any], path: str, used: frozenset[Direction]) -> None:
        one, other = _types_of(old), _types_of(new)
        if one == other:
            self._nullable(old, new, path, used)
            return
        narrowed = not one or (bool(other) and not one <= _wider(other))
        widened = not other or (bool(one) and not other <= _wider(one))
        self._narrowing("type", _typed(one), _typed(other), path, used, narrowed=narrowed, widened=widened)

    def _nullable(self, old: dict[str, Any], new: dict[str, Any], path: str, used: frozenset[Direction]) -> None:
        """``nullable`` where no type is said beside it; with a type it counts as one of the types."""
        before, after = old.get("nullable") is True, new.get("nullable") is True
        if before != after:
            self._narrowing("nullable", before, after, path, used, narrowed=before, widened=after)

    def _values(self, old: dict[str, Any], new: dict[str, Any], path: str, used: frozenset[Direction]) -> None:
        one, other = _enum(old), _enum(new)
        if one != other:
            narrowed = one is None or (other is not None and not one <= other)
            widened = other is None or (one is not None and not other <= one)
            before, after = (" ".join(sorted(v)) if v is not None else None for v in (one, other))
            self._narrowing("enum", before, after, path, used, narrowed=narrowed, widened=widened)

    def _properties(self, old: dict[str, Any], new: dict[str, Any], path: str, used: frozenset[Direction]) -> None:
        before, after = as_object(old.get("properties")), as_object(new.get("properties"))
        needed_before, needed_after = _names(old.get("required")), _names(new.get("required"))
        for name in dict.fromkeys([*before, *after]):
            here = _path(path, "property", name)
            if name not in after:
                self._say("removed", here, "property", name, "breaks")
            elif name not in before:
                breaks = name in needed_after and "sent" in used
                detail = "required" if name in needed_after else "optional"
                self._say("added", here, "property", name, "breaks" if breaks else "alters", detail=detail)
            else:
                self._schema(before[name], after[name], here, used)
        for name in sorted(needed_before ^ needed_after):
            if (name in before) != (name in after):
                continue  # said with the property itself
            now = name in needed_after
            breaks = (now and "sent" in used) or (not now and "got" in used)
            here = _path(path, "property", name)
            self._say("changed", here, "property", name, "breaks" if breaks else "alters", "required", not now, now)

    def _named(
        self, name: str, old: dict[str, Any], new: dict[str, Any], path: str, used: frozenset[Direction]
    ) -> None:
        for key in dict.fromkeys([*old, *new]):
            here = _path(path, name, key)
            if key in old and key in new:
                self._schema(old[key], new[key], here, used)
            else:
                come = key in new
                breaks = ("sent" if come else "got") in used
                self._say("added" if come else "removed", here, name, key, "breaks" if breaks else "alters")

    def _choices(self, name: str, old: list[Any], new: list[Any], path: str, used: frozenset[Direction]) -> None:
        """Alternatives by the schema they name, else by place."""
        one, other = ({_choice(c, k): c for k, c in enumerate(s, 1)} for s in (old, new))
        for key in dict.fromkeys([*one, *other]):
            here = _path(path, name, key)
            if key in one and key in other:
                self._schema(one[key], other[key], here, used)
            else:
                come = key in other
                # One more alternative is wider; one more condition that must hold as well is narrower.
                narrowed = come == (name == "allOf") if (old and new) or name == "allOf" else come
                breaks = ("sent" if narrowed else "got") in used
                self._say("added" if come else "removed", here, name, key, "breaks" if breaks else "alters")


def _beside_reference(schema: Any) -> dict[str, Any]:
    if isinstance(schema, dict) and isinstance(schema.get("$ref"), str):
        return {k: v for k, v in schema.items() if k != "$ref"}
    return {}


def _reference_alone(schema: Any, rest: dict[str, Any]) -> Any:
    return {"$ref": schema["$ref"]} if rest else schema


def _path(base: str, part_type: str, key: str) -> str:
    return child_path(base, Part(part_type, key, key, None), key)


def _at(path: str) -> tuple[str, str]:
    """Type and label of the part at the end of a path."""
    part_type, _, key = path.rpartition("/")[2].partition(":")
    return part_type or "schema", key.replace("%2F", "/") or "schema"


def _step(old: dict[str, Any], new: dict[str, Any], name: str) -> Step:
    return "added" if name not in old else "removed" if name not in new else "changed"


def _said(value: Any) -> Any:
    """A value as a finding holds it: scalars as they are, the rest as short text."""
    if isinstance(value, dict | list):
        text = value.get("$ref") if isinstance(value, dict) else None
        return text or canonical(value).decode()[:_MAX_SAID]
    return value


def _types_of(schema: dict[str, Any]) -> frozenset[str]:
    given = schema.get("type")
    found = {str(t) for t in as_list(given) or [given] if t is not None and not isinstance(t, dict | list)}
    if schema.get("nullable") is True and found:
        found.add("null")
    return frozenset(found)


def _type_schemas(schema: dict[str, Any]) -> list[Any]:
    """Schemas among the types: draft 3 of JSON Schema has such unions."""
    given = schema.get("type")
    return [one for one in as_list(given) or [given] if isinstance(one, dict | list)]


def _wider(types: frozenset[str]) -> frozenset[str]:
    return types | {"integer"} if "number" in types else types


def _typed(types: frozenset[str]) -> str | None:
    return " or ".join(sorted(types)) or None


def _enum(schema: dict[str, Any]) -> frozenset[str] | None:
    if "const" in schema:
        return frozenset({_spelled(schema["const"])})
    return frozenset(_spelled(v) for v in schema["enum"]) if isinstance(schema.get("enum"), list) else None


def _spelled(value: Any) -> str:
    """A text as it is, anything else as JSON, so that 1 and "1" are two values."""
    if isinstance(value, str):
        return value if value and not _LIKE_JSON.fullmatch(value) else canonical(value).decode()
    return canonical(value).decode()


def _names(value: Any) -> set[str]:
    return {str(v) for v in value} if isinstance(value, list) else set()


def _choice(choice: Any, place: int) -> str:
    if isinstance(choice, dict):
        if isinstance(choice.get("$ref"), str):
            return str(choice["$ref"]).rpartition("/")[2]
        if isinstance(choice.get("type"), str) and choice["type"] not in ("object", "array"):
            return str(choice["type"])
        if isinstance(choice.get("title"), str):
            return str(choice["title"])
    return f"#{place}"


def _refers(value: Any) -> bool:
    if isinstance(value, dict):
        return "$ref" in value or any(_refers(v) for v in value.values())
    return isinstance(value, list) and any(_refers(v) for v in value)


def _note(described: Description, schema: Any, way: Direction, found: dict[str, set[Direction]]) -> None:
    waiting, seen = [schema], set()
    while waiting:
        value = waiting.pop()
        if id(value) in seen:
            continue
        seen.add(id(value))
        if isinstance(value, list):
            waiting += value
        elif isinstance(value, dict):
            if isinstance(value.get("$ref"), str):
                target, name = described.resolve(value)
                if name is not None:
                    if way in found.get(name, ()):
                        continue
                    found.setdefault(name, set()).add(way)
                if target is not value:
                    waiting.append(target)
            waiting += [v for v in value.values() if isinstance(v, dict | list)]
