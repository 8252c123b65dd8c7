"""What commits and versions are part of, over HTTP."""

from __future__ import annotations

from typing import Any

from django.http import HttpResponse
from django.urls import path
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import extend_schema
from rest_framework.response import Response

from everyshelf.core.answers.commits import CommitPlaces, VersionPlaces
from everyshelf.service.http.answers import answered
from everyshelf.service.http.reports import FORM, as_report, form_wanted
from everyshelf.service.http.views import number, path_of
from everyshelf.service.reports.actions.commit_places import places_of
from everyshelf.service.reports.actions.history_report import history_title, report_on_history
from everyshelf.service.reports.actions.version_places import version_places
from everyshelf.service.shelves.actions.refs import resolve
from everyshelf.service.shelves.api.base import PATH, REF, VERSION, ShelfView
from everyshelf.service.shelves.api.commit_views import SOUGHT_PARAMETERS, HistoryView


class CommitPlacesView(ShelfView):
    """Everything a commit is part of."""

    @extend_schema(operation_id="commits_places", responses=answered(CommitPlaces))
    def get(self, request: Any, shelf: str, uid: str) -> Response:
        """Return what a commit is part of: branches, tags, environments, proposals, runs, checks, tasks, Git."""
        _, found = self.shelf(request, shelf)
        commit = resolve(found, f"commit:{uid}").commit
        assert commit is not None
        return Response(places_of(found, commit))


class VersionPlacesView(ShelfView):
    """Everything that has one version of an artifact."""

    @extend_schema(operation_id="artifact_places", responses=answered(VersionPlaces), parameters=[PATH, REF, VERSION])
    def get(self, request: Any, shelf: str) -> Response:
        """Return one version of an artifact (default: the one in the state): what it was made of, what was made of
        it, and what has it."""
        _, found = self.shelf(request, shelf)
        wanted = number(request, "version", 1) if "version" in request.query_params else None
        return Response(version_places(found, self.at(request, found), path_of(request), wanted))


class HistoryReportView(HistoryView):
    """A history to keep or to send."""

    @extend_schema(
        operation_id="history_report",
        responses={(200, "text/html"): OpenApiTypes.BINARY},
        parameters=[REF, *SOUGHT_PARAMETERS, FORM],
    )
    def get(self, request: Any, shelf: str) -> HttpResponse:
        """Return the commits in the line of a ref, filtered by what is given, as one self-contained HTML page,
        Markdown or JSON: day by day, with what each did, who made it, and why."""
        _, found = self.shelf(request, shelf)
        form, at = form_wanted(request), self.at(request, found)
        text = report_on_history(found, at, self.sought(request, found), form)
        return as_report(text, history_title(found, at), form)


urlpatterns = [
    path("/history/report", HistoryReportView.as_view()),
    path("/commits/<str:uid>/places", CommitPlacesView.as_view()),
    path("/artifact/places", VersionPlacesView.as_view()),
]
