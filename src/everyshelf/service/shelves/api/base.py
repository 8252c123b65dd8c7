"""What the views of a shelf have in common."""

from __future__ import annotations

from typing import Any

from drf_spectacular.utils import OpenApiParameter
from rest_framework import serializers
from rest_framework.views import APIView

from everyshelf.core.errors import InvalidError
from everyshelf.service.people.rights import Caller, caller_of
from everyshelf.service.shelves.actions.commits import Message
from everyshelf.service.shelves.actions.refs import Resolved, resolve
from everyshelf.service.shelves.actions.shelves import get_shelf
from everyshelf.service.shelves.models import Shelf

REF = OpenApiParameter("ref", str, description="The state meant; the main branch if left out.")
PATH = OpenApiParameter("path", str, required=True, description="Path of the artifact.")
VERSION = OpenApiParameter("version", int, description="Version of the artifact instead of a ref.")
LIMIT = OpenApiParameter("limit", int, description="Entries on a page.")
CURSOR = OpenApiParameter("cursor", str, description="`next` of the page before.")


class ShelfView(APIView):
    """A view of one shelf."""

    def shelf(self, request: Any, key: str, right: str = "see") -> tuple[Caller, Shelf]:
        """The caller and the shelf, if the caller has the right on it."""
        caller = caller_of(request)
        return caller, get_shelf(caller, key, right)

    def at(self, request: Any, shelf: Shelf, name: str = "ref") -> Resolved:
        """The state a query parameter names."""
        return resolve(shelf, request.query_params.get(name) or shelf.main_branch, request.user)


def valid(shape: type[serializers.Serializer], request: Any) -> dict[str, Any]:
    """The validated body. A shape that is ``strict`` takes no word it does not know: what is meant for it and
    misspelled would change nothing, and nobody would notice."""
    given = shape(data=request.data)
    told = set(request.data) if getattr(shape, "strict", False) and isinstance(request.data, dict) else set()
    if unknown := told - set(given.fields):
        word = sorted(unknown)[0]
        raise InvalidError(
            f"{word[:60]!r} is not known here; known are {', '.join(sorted(given.fields))}",
            code="input.unknown",
            pointer=f"/{word[:60]}",
        )
    given.is_valid(raise_exception=True)
    values: dict[str, Any] = given.validated_data
    return values


def number(request: Any, name: str, default: int) -> int:
    """A whole query parameter of at least 1."""
    text = request.query_params.get(name)
    if text is None:
        return default
    if not text.isascii() or not text.isdigit() or not 0 < int(text) < 2**31:
        raise InvalidError(f"{name} must be a whole number from 1, not {text[:40]!r}", code="input.number")
    return int(text)


def path_of(request: Any) -> str:
    """The path an address asks for."""
    path: str = request.query_params.get("path", "")
    if not path:
        raise InvalidError("the address lacks path=…", code="input.missing_path", hint="Name the artifact.")
    return path


def number_of(request: Any, name: str, default: int) -> int:
    """A whole number in the address, not negative."""
    given: str = request.query_params.get(name, "")
    if not given:
        return default
    if not given.isascii() or not given.isdigit() or len(given) > 12:
        raise InvalidError(f"{name} must be a whole number, not {given[:40]!r}", code="input.number")
    return int(given)


def message_of(values: dict[str, Any], default_summary: str = "") -> Message:
    """The message in a validated body."""
    return Message(
        values["summary"] or default_summary,
        values["description"],
        dict(values["labels"]),
        list(values["tasks"]),
        values["author"],
        values["time"],
    )
