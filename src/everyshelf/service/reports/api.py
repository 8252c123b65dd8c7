"""What a commit is part of, over HTTP."""

from __future__ import annotations

from typing import Any

from django.urls import path
from drf_spectacular.utils import extend_schema
from rest_framework.response import Response

from everyshelf.core.answers.commits import CommitPlaces
from everyshelf.service.http.answers import answered
from everyshelf.service.reports.actions.commit_places import places_of
from everyshelf.service.shelves.actions.refs import resolve
from everyshelf.service.shelves.api.base import ShelfView


class CommitPlacesView(ShelfView):
    """Everything a commit is part of."""

    @extend_schema(operation_id="commits_places", responses=answered(CommitPlaces))
    def get(self, request: Any, shelf: str, uid: str) -> Response:
        """Return what a commit is part of: branches, tags, environments, proposals, runs, checks, tasks, Git."""
        _, found = self.shelf(request, shelf)
        commit = resolve(found, f"commit:{uid}").commit
        assert commit is not None
        return Response(places_of(found, commit))


urlpatterns = [path("/<str:uid>/places", CommitPlacesView.as_view())]
