"""Service descriptions: OpenAPI 2 and 3 and JSON Schema, brought to one form.

An operation is its method and path, whatever the path's parameters are called; parameters are keyed by place and name.
Sources: OpenAPI 2.0, 3.0.3, 3.1.0 (https://spec.openapis.org); JSON Schema 2020-12.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import Any

from everyshelf.core.kinds.cosmetic import Cosmetic, prose
from everyshelf.core.kinds.table import KindTable

TABLE = KindTable(
    id="api",
    types={
        "paths": "path",
        "parameters": "parameter",
        "properties": "property",
        "responses": "answer",
        "schemas": "schema",
        "definitions": "schema",
        "$defs": "schema",
    },
    cosmetic_types=(Cosmetic(frozenset({"example", "examples", "externalDocs"}), "written for people"),),
    cosmetic_fields=(
        prose("description", "summary", "title", "termsOfService", "$comment"),
        prose("example", only_if=None),
        Cosmetic(
            frozenset({"specification", "openapi", "swagger", "$schema"}), "the form of the file, not what it says"
        ),
        Cosmetic(frozenset({"name of a schema"}), "calls do not see it"),
        Cosmetic(frozenset({"version", "$id"}), "the name of this description; what it says of the calls is compared"),
    ),
    derived={
        "consumes": "each call knows which forms it takes",
        "name of the body": "OpenAPI 2.0 gives it no meaning",
    },
    unordered=frozenset({"*"}),
    breaks=frozenset(
        {("removed", "operation"), ("removed", "answer"), ("removed", "property"), ("removed", "parameter")}
    ),
    identity={"parameter": ("in", "name")},
)
METHODS = ("get", "put", "post", "delete", "options", "head", "patch", "trace")
_PATH_PARAMETER = re.compile(r"\{([^}]*)\}")
_PARAMETER_SCHEMA = (
    "type",
    "format",
    "enum",
    "items",
    "minimum",
    "maximum",
    "pattern",
    "minLength",
    "maxLength",
    "default",
)


@dataclass
class Operation:
    """One call: parameters and answers by key, bodies by media type; ``rest`` is what has no meaning of its own."""

    path: str
    parameters: dict[str, dict[str, Any]] = field(default_factory=dict)
    bodies: dict[str, Any] = field(default_factory=dict)
    body_required: bool = False
    answers: dict[str, dict[str, Any]] = field(default_factory=dict)
    rest: dict[str, Any] = field(default_factory=dict)


@dataclass
class Description:
    """A service description: operations by "METHOD /path/{}", schemas by name, and everything else."""

    operations: dict[str, Operation]
    schemas: dict[str, Any]
    rest: dict[str, Any]
    tree: dict[str, Any]

    def resolve(self, value: Any) -> tuple[Any, str | None]:
        """What a ``$ref`` leads to, and the name of the schema it names (None for others); guards against circles."""
        name = None
        for _ in range(20):
            if not isinstance(value, dict) or not isinstance(value.get("$ref"), str):
                return value, name
            reference: str = value["$ref"]
            name = reference.rpartition("/")[2] if _is_schema_reference(reference) else None
            found = self._lookup(reference)
            if found is None:
                return value, name
            value = found
        return value, name

    def _lookup(self, reference: str) -> Any:
        if not reference.startswith("#"):
            return None
        here: Any = self.tree
        for escaped in reference[1:].strip("/").split("/") if len(reference) > 1 else []:
            step = escaped.replace("~1", "/").replace("~0", "~")
            if isinstance(here, list) and step.isdigit() and int(step) < len(here):
                here = here[int(step)]
                continue
            if not isinstance(here, dict) or step not in here:
                return None
            here = here[step]
        return here


def _is_schema_reference(reference: str) -> bool:
    return any(part in reference for part in ("/schemas/", "/definitions/", "/$defs/"))


def is_schema(tree: Any) -> bool:
    """True for a JSON Schema that is no service description."""
    return isinstance(tree, dict) and not {"openapi", "swagger", "paths"} & set(tree)


def as_object(value: Any) -> dict[str, Any]:
    """``value`` if it is an object, else an empty one: descriptions are read however malformed they are."""
    return value if isinstance(value, dict) else {}


def as_list(value: Any) -> list[Any]:
    """``value`` if it is a list, else an empty one."""
    return value if isinstance(value, list) else []


def read_description(tree: dict[str, Any]) -> Description:
    """One form of all versions; whatever is malformed is left where it is, in ``rest``."""
    components = as_object(tree.get("components"))
    schemas: dict[str, Any] = {}
    for holder in (tree.get("definitions"), tree.get("$defs"), components.get("schemas")):
        if isinstance(holder, dict):
            schemas |= holder
    left = {k: v for k, v in components.items() if k not in ("schemas", "parameters", "responses", "requestBodies")}
    own = (
        "paths",
        "definitions",
        "$defs",
        "components",
        "parameters",
        "responses",
        "openapi",
        "swagger",
        "consumes",
    )
    rest = {k: v for k, v in tree.items() if k not in own}
    rest |= {"components": left} if left else {}
    rest |= {"specification": str(tree.get("openapi") or tree.get("swagger") or "")}
    found = Description({}, schemas, rest, tree)
    for path, given in as_object(tree.get("paths")).items():
        item = as_object(found.resolve(given)[0])
        # Described in another file, or not a call: kept unchanged.
        other = {k: v for k, v in item.items() if k not in METHODS and k != "parameters"}
        if other or not item:
            found.rest.setdefault("paths", {})[path] = other
        shared = as_list(item.get("parameters"))
        for method in METHODS:
            if isinstance(item.get(method), dict):
                key = f"{method.upper()} {_PATH_PARAMETER.sub('{}', path)}"
                found.operations[key] = _operation(found, path, item[method], shared)
    return found


def _operation(found: Description, path: str, given: dict[str, Any], shared: list[Any]) -> Operation:
    operation = Operation(path)
    places = {name: str(k) for k, name in enumerate(_PATH_PARAMETER.findall(path), 1)}
    consumes = as_list(given.get("consumes")) or as_list(found.tree.get("consumes")) or ["*/*"]
    form: dict[str, Any] = {}
    left: dict[str, Any] = {}  # what is said of the body beside its form
    for reference in [*shared, *as_list(given.get("parameters"))]:
        parameter = as_object(found.resolve(reference)[0])
        if not parameter:
            continue
        place, name = str(parameter.get("in")), str(parameter.get("name"))
        if place == "body":
            operation.bodies = {str(media): parameter.get("schema") for media in consumes}
            operation.body_required = bool(parameter.get("required"))
            left = {k: v for k, v in parameter.items() if k not in ("in", "name", "required", "schema")}
        elif place == "formData":
            form[name] = parameter
        elif "$ref" in parameter:
            operation.rest.setdefault("parameters", []).append(parameter)
        else:
            key = f"path {places[name]}" if place == "path" and name in places else f"{place} {name}"
            operation.parameters[key] = _parameter(parameter)
    if form:
        needed = sorted(n for n, p in form.items() if p.get("required"))
        schema = {
            "type": "object",
            "properties": {n: _parameter(p)["schema"] for n, p in form.items()},
            "required": needed,
        }
        operation.bodies = {str(media): schema for media in consumes}
    body, _ = found.resolve(given.get("requestBody"))
    if isinstance(body, dict):
        operation.bodies = _media(body)
        operation.body_required = bool(body.get("required"))
        left = {k: v for k, v in body.items() if k not in ("content", "required")} | _beside_media(body)
    for code, answer in as_object(given.get("responses")).items():
        operation.answers[str(code)] = _answer(as_object(found.resolve(answer)[0]))
    read = ("parameters", "requestBody", "responses", "consumes")
    operation.rest |= {k: v for k, v in given.items() if k not in read}
    if left:
        operation.rest["body"] = left
    return operation


def _parameter(parameter: dict[str, Any]) -> dict[str, Any]:
    """Whether it is required, its schema (in OpenAPI 2 spread over the parameter itself), and the rest."""
    schema = parameter.get("schema")
    if schema is None and isinstance(parameter.get("content"), dict):
        schema = next((m.get("schema") for m in parameter["content"].values() if isinstance(m, dict)), None)
    if schema is None:
        schema = {k: parameter[k] for k in _PARAMETER_SCHEMA if k in parameter}
    read = ("schema", "required", "in", "name", *_PARAMETER_SCHEMA)
    rest = {k: v for k, v in parameter.items() if k not in read}
    if "content" in rest:
        rest["content"] = _without_schemas(rest["content"])
    return {"required": bool(parameter.get("required")), "schema": schema, "rest": rest, "name": parameter.get("name")}


def _without_schemas(content: Any) -> dict[str, Any]:
    """What media types say beside their schemas: encodings, examples."""
    given = as_object(content).items()
    held = {str(m): {k: v for k, v in as_object(of).items() if k != "schema"} for m, of in given}
    return {m: of for m, of in held.items() if of}


def _beside_media(holder: dict[str, Any]) -> dict[str, Any]:
    return {"media": of} if (of := _without_schemas(holder.get("content"))) else {}


def _media(holder: dict[str, Any]) -> dict[str, Any]:
    return {str(m): v.get("schema") for m, v in as_object(holder.get("content")).items() if isinstance(v, dict)}


def _answer(answer: dict[str, Any]) -> dict[str, Any]:
    bodies = {"*/*": answer["schema"]} if "schema" in answer else _media(answer)
    rest = {k: v for k, v in answer.items() if k not in ("schema", "content")} | _beside_media(answer)
    return {"bodies": bodies, "rest": rest}
