"""Origins over HTTP."""

from __future__ import annotations

from typing import Any

from django.urls import path
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.response import Response

from everyshelf.core.answers.origins import FormsAnswer, OriginsAnswer
from everyshelf.core.errors import InvalidError, MissingError
from everyshelf.service.http.answers import answered
from everyshelf.service.http.views import number, path_of
from everyshelf.service.origins.actions.forms import forms_of_line, forms_of_part
from everyshelf.service.origins.actions.rows import forms_of_row
from everyshelf.service.origins.actions.telling import origins_of
from everyshelf.service.shelves.actions import listing
from everyshelf.service.shelves.api.base import LIMIT, PATH, REF, VERSION, ShelfView
from everyshelf.service.shelves.models import ArtifactVersion, Shelf


class _VersionView(ShelfView):
    def version(self, request: Any, key: str) -> tuple[Shelf, ArtifactVersion]:
        """The version an address names by path and ref, or by path and number."""
        _, shelf = self.shelf(request, key)
        at, artifact = self.at(request, shelf), path_of(request)
        if "version" in request.query_params:
            found = listing.find_version(shelf, at, artifact, number(request, "version", 1))
            if not found.content:
                raise MissingError(f"{artifact} was removed in that version", code="version.missing")
            return shelf, found
        _, current = listing.get_artifact(shelf, at, artifact)
        if current is None:
            raise InvalidError(
                f"{artifact} is in {at.ref}, but in no commit yet",
                code="origins.uncommitted",
                hint="Commit it first; origins are those of commits.",
            )
        return shelf, ArtifactVersion.objects.select_related("commit", "artifact", "shelf").get(pk=current.pk)


class OriginsView(_VersionView):
    """Who last set what."""

    @extend_schema(
        operation_id="artifact_origins",
        responses=answered(OriginsAnswer),
        parameters=[
            PATH,
            REF,
            VERSION,
            OpenApiParameter("form", str, description="parts or lines; left out, parts where there are any."),
            OpenApiParameter("start", int, description="The first entry of the page, counted from 1."),
            LIMIT,
        ],
    )
    def get(self, request: Any, shelf: str) -> Response:
        """List the parts of an artifact, or its lines, each with the commit that last set it."""
        found, version = self.version(request, shelf)
        form = request.query_params.get("form", "")
        start, limit = number(request, "start", 1), number(request, "limit", 1000)
        return Response(origins_of(request.user, found, version, form=form, start=start, limit=limit))


class FormsView(_VersionView):
    """One part over time."""

    @extend_schema(
        operation_id="artifact_forms",
        responses=answered(FormsAnswer),
        parameters=[
            PATH,
            REF,
            VERSION,
            OpenApiParameter("part", str, description="Path of a part, of a field below its part, or a label."),
            OpenApiParameter("line", int, description="A line instead, counted from 1."),
            OpenApiParameter("row", str, description="A row of a table instead: the cells of its key, with commas."),
            OpenApiParameter("column", str, description="With `row`: only the cell in this column."),
            OpenApiParameter("table", str, description="With `row`: the table of a database."),
            LIMIT,
        ],
    )
    def get(self, request: Any, shelf: str) -> Response:
        """List the forms a part, a line or a row had: every commit that touched it, newest first."""
        found, version = self.version(request, shelf)
        limit, asked = number(request, "limit", 200), request.query_params
        if "row" in asked:
            column, table = asked.get("column", ""), asked.get("table", "")
            told = forms_of_row(request.user, found, version, asked["row"], column=column, table=table, limit=limit)
            return Response(told)
        if "line" in request.query_params:
            return Response(forms_of_line(request.user, found, version, number(request, "line", 1), limit))
        return Response(forms_of_part(request.user, found, version, request.query_params.get("part", ""), limit))


urlpatterns = [path("/origins", OriginsView.as_view()), path("/forms", FormsView.as_view())]
