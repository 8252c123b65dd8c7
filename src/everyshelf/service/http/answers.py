"""Answers in the OpenAPI document: their types are published under their own names."""

from __future__ import annotations

from typing import Any

import msgspec
from drf_spectacular.utils import extend_schema_field
from rest_framework import serializers

_REFERENCE = "#/components/schemas/{name}"
_published: dict[str, type[msgspec.Struct]] = {}


def answered(answer: type[msgspec.Struct], status: int = 200) -> dict[Any, Any]:
    """The ``responses`` of a view that answers with this type."""
    return {status: _reference(answer)}


def answered_list(answer: type[msgspec.Struct]) -> dict[Any, Any]:
    """The ``responses`` of a view that answers with a list of this type."""
    return {200: {"type": "array", "items": _reference(answer)}}


def listed(answer: type[msgspec.Struct]) -> serializers.ListField:
    """A member of an answer that is a list of this type."""
    field = extend_schema_field({"type": "array", "items": _reference(answer)})
    made: type[serializers.ListField] = field(type(f"{answer.__name__}List", (serializers.ListField,), {}))
    return made()


def _reference(answer: type[msgspec.Struct]) -> dict[str, str]:
    _published[answer.__name__] = answer
    return {"$ref": _REFERENCE.format(name=answer.__name__)}


def published_schemas() -> dict[str, Any]:
    """JSON Schemas (2020-12) of all types that views answer with, and of those within them."""
    _, schemas = msgspec.json.schema_components(_published.values(), ref_template=_REFERENCE)
    return {name: _described(schema) for name, schema in sorted(schemas.items())}


def _described(schema: dict[str, Any]) -> dict[str, Any]:
    """Without the name, which the document repeats, and with its words in one line."""
    words = " ".join(schema.pop("description", "").split())
    schema.pop("title", None)
    return {"description": words, **schema} if words else schema
