"""What the OpenAPI document says of every operation beyond its view: a summary, and the problems it can answer with."""

from __future__ import annotations

import re
from typing import Any

from everyshelf.service.http.answers import published_schemas
from everyshelf.service.http.examples import add_examples

_PROBLEM = {
    "type": "object",
    "description": "A problem (RFC 9457). Interfaces go by `code`; see docs/errors.md.",
    "properties": {
        "type": {"type": "string"},
        "title": {"type": "string"},
        "status": {"type": "integer"},
        "detail": {"type": "string", "description": "What happened, to what."},
        "code": {"type": "string", "description": "Stable; area.reason."},
        "hint": {"type": "string", "description": "What to do next."},
        "instance": {"type": "string"},
        "job": {"type": "string", "description": "A job that works the answer out."},
        "again": {
            "type": "boolean",
            "description": "The answer is there when that job has ended.",
        },
        "request": {"type": "string", "description": "Number of the request, for the log of the service."},
        "errors": {
            "type": "array",
            "description": "What is wrong with which field.",
            "items": {
                "type": "object",
                "properties": {"pointer": {"type": "string"}, "detail": {"type": "string"}},
                "required": ["pointer", "detail"],
            },
        },
    },
    "required": ["type", "title", "status", "detail", "code", "hint"],
}
_MEANING = {
    "400": "The request is not valid.",
    "401": "Not signed in, or the token is not valid.",
    "403": "The role or the token does not allow this, or a gate is not met.",
    "404": "What is named does not exist, or may not be seen.",
    "409": "It conflicts with the current state.",
    "507": "The disk of the service is full; nothing was recorded.",
}
_WRITES = ("post", "put", "patch", "delete")


def describe(result: dict[str, Any], **_: Any) -> dict[str, Any]:
    """Add to every operation a summary (the first sentence of its description), its problems, and examples."""
    parts = result.setdefault("components", {})
    schemas = parts.setdefault("schemas", {})
    schemas |= {**published_schemas(), "Problem": _PROBLEM}
    parts["schemas"] = dict(sorted(schemas.items()))
    parts["responses"] = {
        f"Problem{status}": {
            "description": meaning,
            "content": {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}},
        }
        for status, meaning in _MEANING.items()
    }
    for methods in result["paths"].values():
        for method, operation in methods.items():
            operation["summary"] = _summary(operation.get("description", ""))
            for answer in operation["responses"].values():
                answer["description"] = answer.get("description") or "Done."
            for status in _problems_of(method, operation):
                operation["responses"].setdefault(status, {"$ref": f"#/components/responses/Problem{status}"})
    add_examples(result)
    return result


def _summary(description: str) -> str:
    """The first sentence, without its full stop."""
    first = re.split(r"(?<=[^.A-Z])\.(?:\s|$)|;\s", " ".join(description.split()), maxsplit=1)[0]
    return first.rstrip(".")


def _problems_of(method: str, operation: dict[str, Any]) -> list[str]:
    named = [p for p in operation.get("parameters", []) if p["in"] == "path"]
    wanted = ["400"] if operation.get("requestBody") or operation.get("parameters") else []
    wanted += ["401", "403"] if operation.get("security") != [{}] else []
    wanted += ["404"] if named else []
    return wanted + (["409", "507"] if method in _WRITES else [])
