"""The exchange with Git, for programs and pages."""

from __future__ import annotations

from typing import Any

from django.urls import path
from drf_spectacular.utils import extend_schema
from rest_framework.response import Response

from everyshelf.core.answers.exchange import GitPage
from everyshelf.service.exchange.actions.describing import list_git_commits
from everyshelf.service.http.answers import answered
from everyshelf.service.http.views import number
from everyshelf.service.shelves.api.base import CURSOR, LIMIT, ShelfView


class GitView(ShelfView):
    """The shelf as a Git repository."""

    @extend_schema(operation_id="git_commits", parameters=[LIMIT, CURSOR], responses=answered(GitPage))
    def get(self, request: Any, shelf: str) -> Response:
        """List the commits of the shelf with their ids in Git, those recorded last first, and where Git finds it."""
        _, found = self.shelf(request, shelf)
        cursor = request.query_params.get("cursor", "")
        return Response(list_git_commits(found, number(request, "limit", 50), cursor))


urlpatterns = [path("", GitView.as_view())]
