"""Saved views, for programs and pages."""

from __future__ import annotations

from typing import Any

from django.urls import path
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response

from everyshelf.core.answers.saved_views import SavedViewAnswer
from everyshelf.service.http.answers import answered_list
from everyshelf.service.http.views import valid
from everyshelf.service.saved_views.actions import list_views, remove_view, save_view
from everyshelf.service.shelves.api.base import ShelfView


class ViewIn(serializers.Serializer[Any]):
    """A page of the shelf under a name: ``address`` is what follows ``/s/KEY`` in the console."""

    strict = True
    name = serializers.CharField(max_length=100)
    address = serializers.CharField(max_length=2000, allow_blank=True)
    shared = serializers.BooleanField(required=False, default=False)


class SavedViewsView(ShelfView):
    """Views of a shelf that people saved."""

    @extend_schema(operation_id="views_list", responses=answered_list(SavedViewAnswer))
    def get(self, request: Any, shelf: str) -> Response:
        """List your saved views of a shelf, and those that others share."""
        caller, found = self.shelf(request, shelf)
        return Response(list_views(caller, found))

    @extend_schema(operation_id="views_save", request=ViewIn, responses=answered_list(SavedViewAnswer))
    def put(self, request: Any, shelf: str) -> Response:
        """Save a view under a name; one of yours that has the name is replaced."""
        caller, found = self.shelf(request, shelf)
        values = valid(ViewIn, request)
        return Response(save_view(caller, found, values["name"], values["address"], shared=values["shared"]))

    @extend_schema(
        operation_id="views_remove",
        parameters=[OpenApiParameter("name", str, required=True, description="Name of the view.")],
        responses=answered_list(SavedViewAnswer),
    )
    def delete(self, request: Any, shelf: str) -> Response:
        """Remove one of your saved views."""
        caller, found = self.shelf(request, shelf)
        return Response(remove_view(caller, found, request.query_params.get("name", "")))


urlpatterns = [path("", SavedViewsView.as_view())]
