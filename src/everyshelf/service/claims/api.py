"""Locations in use, for administrators."""

from __future__ import annotations

from typing import Any

from django.urls import path
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response

from everyshelf.service.claims.actions import sharing
from everyshelf.service.http.views import ApiView, valid
from everyshelf.service.rights import caller_of


class LocationOut(serializers.Serializer[Any]):
    """A folder, repository, database or server that a shelf uses. ``use``: environment, link or in place;
    ``shared_with``: keys of the other shelves that may also use it."""

    address = serializers.CharField()
    use = serializers.CharField()
    shelf = serializers.CharField()
    taken = serializers.DateTimeField()
    taken_by = serializers.CharField()
    shared_with = serializers.ListField(child=serializers.CharField())


class SharingIn(serializers.Serializer[Any]):
    """Which location is shared with which shelf, by its key."""

    strict = True
    address = serializers.CharField(max_length=2000)
    shelf = serializers.CharField(max_length=200)


_ADDRESS = OpenApiParameter("address", str, required=True, description="The location.")
_SHELF = OpenApiParameter("shelf", str, required=True, description="Key of the shelf it is shared with.")


class LocationsView(ApiView):
    """Locations in use."""

    @extend_schema(operation_id="locations_list", responses=LocationOut(many=True))
    def get(self, request: Any) -> Response:
        """List the locations that shelves use. For administrators of the installation."""
        return Response(LocationOut(sharing.list_locations(caller_of(request)), many=True).data)


class SharesView(ApiView):
    """Sharing locations."""

    @extend_schema(operation_id="locations_share", request=SharingIn, responses=LocationOut(many=True))
    def post(self, request: Any) -> Response:
        """Share a location with one more shelf. For administrators of the installation."""
        given = valid(SharingIn, request)
        found = sharing.share(caller_of(request), given["address"], given["shelf"])
        return Response(LocationOut(found, many=True).data)

    @extend_schema(
        operation_id="locations_unshare", parameters=[_ADDRESS, _SHELF], request=None, responses=LocationOut(many=True)
    )
    def delete(self, request: Any) -> Response:
        """Stop sharing a location with a shelf. For administrators of the installation."""
        address, shelf = (str(request.GET.get(name, "")) for name in ("address", "shelf"))
        found = sharing.unshare(caller_of(request), address, shelf)
        return Response(LocationOut(found, many=True).data)


urlpatterns = [path("", LocationsView.as_view()), path("/shares", SharesView.as_view())]
