"""The log."""

from __future__ import annotations

from typing import Any

from django.urls import path
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response

from everyshelf.service.http.views import ApiView, number
from everyshelf.service.log import actions
from everyshelf.service.rights import caller_of
from everyshelf.service.shelves.api.base import LIMIT, ShelfView


class LogEntryOut(serializers.Serializer[Any]):
    """Who did what: ``words`` go between the person and the subject. ``via``: the token used, empty for the console."""

    entry = serializers.IntegerField()
    time = serializers.DateTimeField()
    person = serializers.CharField()
    via = serializers.CharField()
    shelf = serializers.CharField(allow_null=True)
    act = serializers.CharField()
    words = serializers.CharField()
    subject = serializers.CharField()
    detail = serializers.DictField()


class LogPage(serializers.Serializer[Any]):
    """A page of the log, newest first; ``next`` goes into ``before``."""

    items = LogEntryOut(many=True)
    next = serializers.IntegerField(allow_null=True)


_FILTERS = [
    OpenApiParameter("person", str, description="Only what this person did."),
    OpenApiParameter("act", str, description="Only this act (`branch.made`), or all about one thing (`branch`)."),
    OpenApiParameter("before", int, description="`next` of the page before."),
    LIMIT,
]


def _filters(request: Any) -> dict[str, Any]:
    return {
        "person": request.query_params.get("person", ""),
        "act": request.query_params.get("act", ""),
        "before": number(request, "before", 0) if "before" in request.query_params else None,
        "limit": number(request, "limit", 100),
    }


class ShelfLogView(ShelfView):
    """What was done on a shelf."""

    @extend_schema(operation_id="log_shelf", parameters=_FILTERS, responses=LogPage)
    def get(self, request: Any, shelf: str) -> Response:
        """List the log entries of a shelf, newest first. Entries are never changed or deleted."""
        _, found = self.shelf(request, shelf)
        return Response(actions.list_log(found, **_filters(request)))


class LogView(ApiView):
    """What one did anywhere."""

    @extend_schema(operation_id="log_own", parameters=_FILTERS, responses=LogPage)
    def get(self, request: Any) -> Response:
        """List your own entries; for administrators of the installation, all entries."""
        return Response(actions.list_own_log(caller_of(request), **_filters(request)))


urlpatterns = [path("log", LogView.as_view()), path("shelves/<str:shelf>/log", ShelfLogView.as_view())]
