"""What the views of a shelf have in common."""

from __future__ import annotations

from typing import Any

from drf_spectacular.utils import OpenApiParameter

from everyshelf.service.http.views import ApiView, number
from everyshelf.service.rights import Caller, caller_of
from everyshelf.service.shelves.actions.recording import CommitMessage
from everyshelf.service.shelves.actions.refs import Resolved, resolve
from everyshelf.service.shelves.actions.shelves import get_shelf
from everyshelf.service.shelves.models import Shelf

REF = OpenApiParameter("ref", str, description="The state meant; the main branch if left out.")
PATH = OpenApiParameter("path", str, required=True, description="Path of the artifact.")
VERSION = OpenApiParameter("version", int, description="Version of the artifact instead of a ref.")
LIMIT = OpenApiParameter("limit", int, description="Entries on a page.")
WORDS = OpenApiParameter("words", str, description="Those with these words in their names.")
CURSOR = OpenApiParameter("cursor", str, description="`next` of the page before.")
_MOST_ON_A_PAGE = 1_000


class ShelfView(ApiView):
    """A view of one shelf."""

    def shelf(self, request: Any, key: str, right: str = "see") -> tuple[Caller, Shelf]:
        """The caller and the shelf, if the caller has the right on it."""
        caller = caller_of(request)
        return caller, get_shelf(caller, key, right)

    def at(self, request: Any, shelf: Shelf, name: str = "ref") -> Resolved:
        """The state a query parameter names."""
        return resolve(shelf, request.query_params.get(name) or shelf.main_branch, request.user)


def page_of(request: Any) -> dict[str, Any]:
    """What part of a list of names is asked for."""
    asked, limit = request.query_params, min(number(request, "limit", 100), _MOST_ON_A_PAGE)
    return {"words": asked.get("words", ""), "limit": limit, "cursor": asked.get("cursor", "")}


def message_of(values: dict[str, Any], default_summary: str = "") -> CommitMessage:
    """The message in a validated body."""
    return CommitMessage(
        values["summary"] or default_summary,
        values["description"],
        dict(values["labels"]),
        list(values["tasks"]),
        values["author"],
        values["time"],
    )
