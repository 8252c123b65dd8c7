"""The store of the installation, for administrators."""

from __future__ import annotations

from typing import Any

from django.urls import path
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response

from everyshelf.service.http.views import ApiView, number, number_of
from everyshelf.service.jobs.actions import job_json
from everyshelf.service.jobs.api import JobOut
from everyshelf.service.keeping import actions, homes
from everyshelf.service.rights import caller_of
from everyshelf.service.shelves.api.base import LIMIT


class StorageOut(serializers.Serializer[Any]):
    """What the store holds, in bytes.

    ``versions_bytes``: all versions of artifacts written out. ``stored``: what they take. ``deltas``: pieces kept as
    what they change of another. ``saved``: bytes those have saved since the first run. ``waiting``: bytes of versions
    that no run has looked at. ``unreached``: contents that were sent and that no record names; ``unreached_bytes``:
    theirs; ``frees``: when the first of them goes. ``hours``: how often it runs by itself, 0 for never. ``tidied``:
    when it last ran to its end. ``job``: the newest. ``home``: the bucket where versions live, empty for this machine;
    ``at_home``: bytes that live there, ``to_move``: those that wait to be moved; ``fetched``: bytes of the bucket kept
    on this machine; ``moving``: the newest job that moves.
    """

    versions = serializers.IntegerField()
    versions_bytes = serializers.IntegerField()
    stored = serializers.IntegerField()
    deltas = serializers.IntegerField()
    saved = serializers.IntegerField()
    waiting = serializers.IntegerField()
    unreached = serializers.IntegerField()
    unreached_bytes = serializers.IntegerField()
    frees = serializers.DateTimeField(allow_null=True)
    hours = serializers.IntegerField()
    tidied = serializers.DateTimeField(allow_null=True)
    job = JobOut(allow_null=True)
    home = serializers.CharField(allow_blank=True)
    at_home = serializers.IntegerField()
    to_move = serializers.IntegerField()
    fetched = serializers.IntegerField()
    moving = JobOut(allow_null=True)


class UnusedContent(serializers.Serializer[Any]):
    """A content that was sent to a shelf and that no record names.

    ``since``: when that was first found; ``frees``: when it is let go of, unless it is used or asked for before.
    """

    content = serializers.CharField()
    size = serializers.IntegerField()
    shelf = serializers.CharField()
    since = serializers.DateTimeField()
    frees = serializers.DateTimeField()


class UnusedPage(serializers.Serializer[Any]):
    """A page of them; ``next`` goes into ``after``."""

    items = UnusedContent(many=True)
    next = serializers.IntegerField(allow_null=True)


class MoveIn(serializers.Serializer[Any]):
    """Where versions are to live: ``folder`` for this machine, or ``s3://BUCKET/PREFIX``. ``endpoint``: address of the
    S3-compatible service that has the bucket. ``take_over``: use the segments of another installation that lie there.
    """

    to = serializers.CharField(max_length=1000)
    endpoint = serializers.CharField(max_length=500, required=False, allow_blank=True, default="")
    take_over = serializers.BooleanField(required=False, default=False)


class StorageView(ApiView):
    """The store of this installation."""

    @extend_schema(operation_id="storage_state", responses=StorageOut)
    def get(self, request: Any) -> Response:
        """What the store holds. For administrators of the installation."""
        return Response(actions.storage_state(caller_of(request)))


class UnusedView(ApiView):
    """What will be freed."""

    @extend_schema(
        operation_id="storage_unused",
        parameters=[OpenApiParameter("after", int, description="`next` of the page before."), LIMIT],
        responses=UnusedPage,
    )
    def get(self, request: Any) -> Response:
        """List the contents that were sent and never used, with the time from which each is let go of. For
        administrators of the installation."""
        after, limit = number_of(request, "after", 0), number(request, "limit", 100)
        return Response(actions.unused_contents(caller_of(request), after, limit))


class TidyView(ApiView):
    """Tidying the store."""

    @extend_schema(operation_id="storage_tidy", request=None, responses={202: JobOut})
    def post(self, request: Any) -> Response:
        """Tidy the store now, by a job: versions are kept as what they change, and room that is not needed any more is
        freed. For administrators of the installation."""
        return Response(job_json(actions.start_tidying(caller_of(request))), status=202)


class MoveView(ApiView):
    """Moving the store."""

    @extend_schema(operation_id="storage_move", request=MoveIn, responses={202: JobOut})
    def post(self, request: Any) -> Response:
        """Let versions live in a bucket, or on this machine, from now on, and move them there by a job, while they are
        read and written. For administrators of the installation."""
        given = MoveIn(data=request.data)
        given.is_valid(raise_exception=True)
        asked = given.validated_data
        job = homes.start_moving(caller_of(request), asked["to"], asked["endpoint"], take_over=asked["take_over"])
        return Response(job_json(job), status=202)


urlpatterns = [
    path("storage", StorageView.as_view()),
    path("storage/tidy", TidyView.as_view()),
    path("storage/unused", UnusedView.as_view()),
    path("storage/move", MoveView.as_view()),
]
