"""Tasks, for programs and pages."""

from __future__ import annotations

from typing import Any

from django.urls import path
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.response import Response

from everyshelf.core.answers.tasks import TaskAnswer, TaskPage
from everyshelf.service.http.answers import answered
from everyshelf.service.http.views import number, valid
from everyshelf.service.shelves.api.base import CURSOR, LIMIT, ShelfView
from everyshelf.service.tasks.actions.describing import describe_task, list_tasks
from everyshelf.service.tasks.actions.settings import change_settings


class TaskChange(serializers.Serializer[Any]):
    """How tasks are told; what is left out stays, an empty text takes away."""

    strict = True
    pattern = serializers.CharField(
        required=False,
        allow_blank=True,
        max_length=200,
        trim_whitespace=False,
        help_text="What the id of a task looks like, as a regular expression.",
    )
    address = serializers.CharField(
        required=False, allow_blank=True, max_length=500, help_text="Where tasks are kept; {task} stands for the id."
    )


class TasksView(ShelfView):
    """The tasks of a shelf."""

    @extend_schema(operation_id="tasks_list", parameters=[LIMIT, CURSOR], responses=answered(TaskPage))
    def get(self, request: Any, shelf: str) -> Response:
        """List the tasks that commits are for, the one with the newest commit first."""
        _, found = self.shelf(request, shelf)
        return Response(list_tasks(found, number(request, "limit", 50), request.query_params.get("cursor", "")))

    @extend_schema(operation_id="tasks_change", request=TaskChange, responses=answered(TaskPage))
    def patch(self, request: Any, shelf: str) -> Response:
        """Change how tasks are told and where they are kept. History is read again with the new pattern."""
        caller, found = self.shelf(request, shelf)
        values = valid(TaskChange, request)
        change_settings(caller, found, values.get("pattern"), values.get("address"))
        return Response(list_tasks(found, 50, ""))


class TaskView(ShelfView):
    """One task."""

    @extend_schema(operation_id="tasks_show", parameters=[LIMIT, CURSOR], responses=answered(TaskAnswer))
    def get(self, request: Any, shelf: str, task: str) -> Response:
        """Return a task: commits, artifacts, proposals, and where its commits have come to."""
        _, found = self.shelf(request, shelf)
        cursor = request.query_params.get("cursor", "")
        return Response(describe_task(found, task, number(request, "limit", 50), cursor))


urlpatterns = [path("", TasksView.as_view()), path("/<path:task>", TaskView.as_view())]
