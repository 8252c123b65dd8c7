"""Where a new environment can live. It has an address of its own: below that of environments are their names."""

from __future__ import annotations

from typing import Any

from django.urls import path
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.response import Response

from everyshelf.core.answers.environments import FreePlace
from everyshelf.service.environments.actions.free_places import free_places
from everyshelf.service.http.answers import answered_list
from everyshelf.service.shelves.api.base import ShelfView

_DESTINATION = OpenApiParameter(
    "destination", str, enum=["folder", "database"], description="Folders or files of databases; folders if left out."
)
_NAME = OpenApiParameter(
    "name", str, description="Name of the environment: an address that is made for it comes first."
)


class FreePlacesView(ShelfView):
    """Addresses to choose from."""

    @extend_schema(
        operation_id="environments_places", parameters=[_DESTINATION, _NAME], responses=answered_list(FreePlace)
    )
    def get(self, request: Any, shelf: str) -> Response:
        """List folders, or database files, of the allowed places that belong to no environment."""
        caller, found = self.shelf(request, shelf)
        asked = request.query_params
        return Response(free_places(caller, found, asked.get("destination", "folder"), asked.get("name", "")))


urlpatterns = [path("", FreePlacesView.as_view())]
