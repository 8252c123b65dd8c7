"""Uses over HTTP."""

from __future__ import annotations

from typing import Any

from django.urls import path
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.response import Response

from everyshelf.core.answers.uses import UsesAnswer
from everyshelf.core.errors import InvalidError
from everyshelf.service.http.answers import answered
from everyshelf.service.http.views import flag, number, path_of
from everyshelf.service.shelves.api.base import PATH, REF, ShelfView
from everyshelf.service.uses.actions.answering import MOST_DEEP, MOST_LISTED, uses_of

_DEPTH, _LISTED = 3, 500
_LIMIT_TOLD = f"How many users, and how many used, are listed: {_LISTED} if left out, at most {MOST_LISTED}."


class UsesView(ShelfView):
    """Who uses what."""

    @extend_schema(
        operation_id="artifact_uses",
        responses=answered(UsesAnswer),
        parameters=[
            PATH,
            REF,
            OpenApiParameter("part", str, description="Only who uses this part: its path, its label or its name."),
            OpenApiParameter("depth", int, description=f"Up to which level, 1 to {MOST_DEEP}; 3 if left out."),
            OpenApiParameter("limit", int, description=_LIMIT_TOLD),
            OpenApiParameter("exact", bool, description="Leave out guesses."),
        ],
    )
    def get(self, request: Any, shelf: str) -> Response:
        """List who uses an artifact or a part of it, what it uses, and what it names that does not exist."""
        caller, found = self.shelf(request, shelf)
        depth = number(request, "depth", _DEPTH)
        if not 1 <= depth <= MOST_DEEP:
            raise InvalidError(
                f"{depth} is not a depth", code="uses.depth", hint=f"Give a number of levels from 1 to {MOST_DEEP}."
            )
        part, exact = request.query_params.get("part", "").strip(), flag(request, "exact")
        at, artifact = self.at(request, found), path_of(request)
        limit = number(request, "limit", _LISTED)
        return Response(uses_of(caller, found, at, artifact, part=part, depth=depth, limit=limit, exact=exact))


urlpatterns = [path("/uses", UsesView.as_view())]
