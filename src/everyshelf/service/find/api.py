"""Finding over HTTP."""

from __future__ import annotations

from typing import Any

from django.urls import path
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.response import Response

from everyshelf.core.answers.find import FindAnswer
from everyshelf.service.find.actions.finding import Filters, find
from everyshelf.service.http.answers import answered
from everyshelf.service.http.views import ApiView, flag, number
from everyshelf.service.rights import caller_of
from everyshelf.service.shelves.api.base import CURSOR, LIMIT

_PARAMETERS = {
    "words": "All of these words, in any form; an exact phrase in double quotes.",
    "by": "Who made the version.",
    "since": "Versions of this day or later; a date or a time.",
    "until": "Versions of this day or earlier.",
    "label": "A label of the commit, KEY or KEY=VALUE.",
    "task": "Id of a task of the commit.",
    "effect": "What the version did to users: breaks, alters, cosmetic.",
    "order": "best (match; the default), newest or name.",
}


class FindView(ApiView):
    """Artifacts by the words in them."""

    @extend_schema(
        operation_id="find_list",
        responses=answered(FindAnswer),
        parameters=[
            *(OpenApiParameter(name, str, description=told) for name, told in _PARAMETERS.items()),
            OpenApiParameter("shelf", str, many=True, description="Only on these shelves; may be repeated."),
            OpenApiParameter("kind", str, many=True, description="Only of these kinds; may be repeated."),
            OpenApiParameter("larger", int, description="Of at least so many bytes."),
            OpenApiParameter("history", bool, description="Look through earlier versions too."),
            LIMIT,
            CURSOR,
        ],
    )
    def get(self, request: Any) -> Response:
        """List artifacts that hold all of the words, on all shelves you may see, with the places they stand in."""
        asked = request.query_params
        filters = Filters(
            shelves=asked.getlist("shelf"),
            kinds=asked.getlist("kind"),
            larger=number(request, "larger", 1) if "larger" in asked else 0,
            **{name: asked.get(name, "") for name in ("by", "since", "until", "label", "task", "effect")},
        )
        found = find(
            caller_of(request),
            asked.get("words", ""),
            filters,
            history=flag(request, "history"),
            order=asked.get("order", ""),
            limit=number(request, "limit", 20),
            cursor=asked.get("cursor", ""),
        )
        return Response(found)


urlpatterns = [path("", FindView.as_view())]
