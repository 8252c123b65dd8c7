"""Data in place, for programs and pages."""

from __future__ import annotations

from typing import Any

from django.urls import path
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response

from everyshelf.service.http.views import number, valid
from everyshelf.service.in_place.actions import checking, keys, registering
from everyshelf.service.jobs.actions import job_json
from everyshelf.service.jobs.api import JobOut
from everyshelf.service.shelves.actions.refs import resolve
from everyshelf.service.shelves.api.base import CURSOR, LIMIT, REF, ShelfView

_FOLDER = OpenApiParameter("folder", str, description="Folder or artifact that is meant; all if left out.")


class InPlaceIn(serializers.Serializer[Any]):
    """What is registered: the file at ``address`` as the artifact ``path``, or all files below it below that path.
    ``address``: /FOLDER, s3://BUCKET/PREFIX or https://HOST/FILE; ``endpoint``: of an S3-compatible service."""

    strict = True
    path = serializers.CharField(max_length=1000)
    address = serializers.CharField(max_length=2000)
    endpoint = serializers.CharField(max_length=500, required=False, allow_blank=True, default="")
    branch = serializers.CharField(max_length=200, required=False, allow_blank=True, default="")
    summary = serializers.CharField(max_length=200, required=False, allow_blank=True, default="")


class InPlaceOut(serializers.Serializer[Any]):
    """An artifact in place. ``etag``: what the place calls these bytes, if it does; ``sha256``: of the bytes, where
    they were read once; ``checked``: when the place was last asked; ``problem``: what was wrong then, or empty."""

    path = serializers.CharField()
    content = serializers.CharField()
    address = serializers.CharField()
    size = serializers.IntegerField()
    etag = serializers.CharField(allow_blank=True)
    sha256 = serializers.CharField(allow_blank=True)
    registered = serializers.DateTimeField()
    checked = serializers.DateTimeField(allow_null=True)
    problem = serializers.CharField(allow_blank=True)


class InPlacePage(serializers.Serializer[Any]):
    """A page of artifacts in place; ``total`` and ``bytes`` count all of them; ``problems`` and ``unchecked`` too, on
    the first page. ``job``: the newest that registers or checks data of the shelf."""

    items = InPlaceOut(many=True)
    total = serializers.IntegerField()
    bytes = serializers.IntegerField()
    problems = serializers.IntegerField(allow_null=True)
    unchecked = serializers.IntegerField(allow_null=True)
    next = serializers.CharField(allow_null=True)
    job = JobOut(allow_null=True)


class InPlaceCheckIn(serializers.Serializer[Any]):
    """Which data is checked; ``fingerprint``: read its bytes too."""

    strict = True
    ref = serializers.CharField(max_length=300, required=False, allow_blank=True, default="")
    folder = serializers.CharField(max_length=1000, required=False, allow_blank=True, default="")
    fingerprint = serializers.BooleanField(required=False, default=False)


class KeysIn(serializers.Serializer[Any]):
    """Credentials for the bucket or server of ``address``: ``key_id`` and ``secret`` of a bucket, a server's token as
    ``secret``."""

    strict = True
    address = serializers.CharField(max_length=2000)
    endpoint = serializers.CharField(max_length=500, required=False, allow_blank=True, default="")
    key_id = serializers.CharField(max_length=200, required=False, allow_blank=True, default="")
    secret = serializers.CharField(max_length=4000, trim_whitespace=False)


class KeysOut(serializers.Serializer[Any]):
    """A place that the shelf has credentials for."""

    place = serializers.CharField()
    key_id = serializers.CharField(allow_blank=True)
    set_by = serializers.CharField()
    time = serializers.DateTimeField()


class InPlaceView(ShelfView):
    """The data in place of a shelf."""

    @extend_schema(operation_id="in_place_list", parameters=[REF, _FOLDER, LIMIT, CURSOR], responses=InPlacePage)
    def get(self, request: Any, shelf: str) -> Response:
        """List the artifacts of a state whose bytes lie outside the store, with what is known of them."""
        _, found = self.shelf(request, shelf)
        asked = request.query_params
        limit = number(request, "limit", 200)
        at = self.at(request, found)
        return Response(checking.list_in_place(found, at, asked.get("folder", ""), asked.get("cursor", ""), limit))

    @extend_schema(operation_id="in_place_add", request=InPlaceIn, responses={202: JobOut})
    def post(self, request: Any, shelf: str) -> Response:
        """Register data where it lies, by a job: nothing is copied, and nothing is read but the listing. Registered
        again, what changed becomes a new version."""
        caller, found = self.shelf(request, shelf)
        return Response(job_json(registering.start_registering(caller, found, **valid(InPlaceIn, request))), status=202)


class CheckView(ShelfView):
    """Checking data in place."""

    @extend_schema(operation_id="in_place_check", request=InPlaceCheckIn, responses={202: JobOut})
    def post(self, request: Any, shelf: str) -> Response:
        """Check by a job whether the data has changed since it was registered."""
        caller, found = self.shelf(request, shelf)
        asked = valid(InPlaceCheckIn, request)
        at = resolve(found, asked["ref"] or found.main_branch, request.user)
        job = checking.start_checking(caller, found, at, asked["folder"], fingerprint=asked["fingerprint"])
        return Response(job_json(job), status=202)


class KeysView(ShelfView):
    """Credentials for places."""

    @extend_schema(operation_id="in_place_credentials_list", responses=KeysOut(many=True))
    def get(self, request: Any, shelf: str) -> Response:
        """List the buckets and servers that a shelf has credentials for; the secrets are not shown."""
        return Response(keys.list_keys(*self.shelf(request, shelf)))

    @extend_schema(operation_id="in_place_credentials_set", request=KeysIn, responses=KeysOut(many=True))
    def put(self, request: Any, shelf: str) -> Response:
        """Set the credentials for a bucket or server; the secret is kept sealed."""
        return Response(keys.set_keys(*self.shelf(request, shelf), **valid(KeysIn, request)))

    @extend_schema(
        operation_id="in_place_credentials_remove",
        parameters=[OpenApiParameter("place", str, required=True, description="As it is listed.")],
        responses=KeysOut(many=True),
    )
    def delete(self, request: Any, shelf: str) -> Response:
        """Remove the credentials for a bucket or server. Its data stays registered, and cannot be read without them."""
        return Response(keys.remove_keys(*self.shelf(request, shelf), request.query_params.get("place", "")))


urlpatterns = [
    path("", InPlaceView.as_view()),
    path("/check", CheckView.as_view()),
    path("/credentials", KeysView.as_view()),
]
