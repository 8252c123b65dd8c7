"""Lineage over HTTP."""

from __future__ import annotations

from typing import Any

from django.http import HttpResponse
from django.urls import path
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.response import Response

from everyshelf.core.answers.base import as_json
from everyshelf.core.answers.lineage import LineageAnswer
from everyshelf.core.errors import InvalidError, MissingError
from everyshelf.core.lineage.page import as_page
from everyshelf.core.lineage.prov import as_prov
from everyshelf.service.http.answers import answered
from everyshelf.service.http.views import number, path_of
from everyshelf.service.lineage.actions.following import MOST_STEPS, lineage_of_version
from everyshelf.service.shelves.actions import listing
from everyshelf.service.shelves.actions.seen import see_versions
from everyshelf.service.shelves.api.base import PATH, REF, VERSION, ShelfView
from everyshelf.service.shelves.models import ArtifactVersion

_DEPTH = 10
_PARAMETERS = [
    PATH,
    REF,
    VERSION,
    OpenApiParameter("depth", int, description=f"Number of steps each way, 1 to {MOST_STEPS}; 10 if left out."),
]


class _LineageView(ShelfView):
    def lineage(self, request: Any, key: str) -> LineageAnswer:
        """The lineage of the version an address names."""
        caller, shelf = self.shelf(request, key)
        depth = number(request, "depth", _DEPTH)
        if depth > MOST_STEPS:
            raise InvalidError(
                f"{depth} is too many steps", code="lineage.depth", hint=f"Give a number from 1 to {MOST_STEPS}."
            )
        at, artifact = self.at(request, shelf), path_of(request)
        if "version" in request.query_params:
            row = listing.find_version(shelf, at, artifact, number(request, "version", 1))
            found = see_versions(ArtifactVersion.objects.filter(pk=row.pk))[0]
            if not found.content:
                raise MissingError(f"{artifact} was removed in that version", code="version.missing")
        else:
            _, current = listing.get_artifact(shelf, at, artifact)
            if current is None:
                raise InvalidError(
                    f"{artifact} is in {at.ref}, but in no commit yet",
                    code="lineage.uncommitted",
                    hint="Commit it first; a lineage is that of a version.",
                )
            found = current
        return lineage_of_version(caller, shelf, found, depth)


class LineageView(_LineageView):
    """What a version was made from."""

    @extend_schema(operation_id="artifact_lineage", responses=answered(LineageAnswer), parameters=_PARAMETERS)
    def get(self, request: Any, shelf: str) -> Response:
        """Return what a version was made from and what was made from it, and whether it can be made again."""
        return Response(self.lineage(request, shelf))


class LineageReportView(_LineageView):
    """A lineage for other programs, or to pass on."""

    @extend_schema(
        operation_id="artifact_lineage_report",
        responses={(200, "application/json"): OpenApiTypes.STR, (200, "text/html"): OpenApiTypes.STR},
        parameters=[
            *_PARAMETERS,
            OpenApiParameter("form", str, enum=["prov", "html"], description="prov is PROV-JSON."),
        ],
    )
    def get(self, request: Any, shelf: str) -> HttpResponse:
        """Return the same as PROV-JSON (W3C), or as one HTML page."""
        form = request.query_params.get("form", "prov")
        if form not in ("prov", "html"):
            raise InvalidError(f"a lineage is not written as {form[:40]!r}", code="report.form", hint="prov or html.")
        found = self.lineage(request, shelf)
        if form == "html":
            return HttpResponse(as_page(found), content_type="text/html; charset=utf-8")
        document = as_json(as_prov(found, request.build_absolute_uri("/")))
        return HttpResponse(document, content_type="application/json")


urlpatterns = [path("/lineage", LineageView.as_view()), path("/lineage/report", LineageReportView.as_view())]
