"""The store of the installation, for administrators."""

from __future__ import annotations

from typing import Any

from django.urls import path
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response

from everyshelf.core.content.stores import MAIN_NAME
from everyshelf.service.http.views import ApiView, number, number_of, valid
from everyshelf.service.jobs.actions import job_json
from everyshelf.service.jobs.api import JobOut
from everyshelf.service.keeping import actions, homes, shelf_stores
from everyshelf.service.rights import caller_of, require_scope
from everyshelf.service.shelves.api.base import LIMIT, ShelfView


class StoreName(serializers.Serializer[Any]):
    """A store where bytes of shelves can live."""

    name = serializers.CharField()


class StoreOut(serializers.Serializer[Any]):
    """A store, for administrators. ``home``: the bucket or the folder where its versions live, empty for the data
    folder; ``shelves``: how many live there; ``at_home``: bytes that live there, ``to_move``: those that wait to be
    moved."""

    name = serializers.CharField()
    home = serializers.CharField(allow_blank=True)
    shelves = serializers.IntegerField()
    at_home = serializers.IntegerField()
    to_move = serializers.IntegerField()


class StorageOut(serializers.Serializer[Any]):
    """What the store holds, in bytes.

    ``versions_bytes``: all versions of artifacts written out. ``stored``: what they take. ``deltas``: pieces kept as
    what they change of another. ``saved``: bytes those have saved since the first run. ``waiting``: bytes of versions
    that no run has looked at. ``unreached``: contents that were sent and that no record names; ``unreached_bytes``:
    theirs; ``frees``: when the first of them goes. ``hours``: how often it runs by itself, 0 for never. ``tidied``:
    when it last ran to its end. ``job``: the newest. ``home``: the bucket or the folder where the versions of the main
    store live, empty for the data folder; ``at_home``: bytes that live there, ``to_move``: those that wait to be moved;
    ``fetched``: bytes of buckets kept on this machine; ``moving``: the newest job that moves; ``stores``: all of them,
    the main one first.
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
    stores = StoreOut(many=True)


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


class NewStore(serializers.Serializer[Any]):
    """A store to be made: its name, and where its versions are to live: ``folder`` for the data folder, the path of
    another folder, or ``s3://BUCKET/PREFIX``. ``endpoint``: address of the S3-compatible service that has the bucket.
    ``take_over``: use the segments of another installation that lie there."""

    name = serializers.CharField(max_length=100)
    to = serializers.CharField(max_length=1000)
    endpoint = serializers.CharField(max_length=500, required=False, allow_blank=True, default="")
    take_over = serializers.BooleanField(required=False, default=False)


class MoveIn(serializers.Serializer[Any]):
    """Where the versions of a ``store`` (else of the main one) are to live, as for one that is made."""

    to = serializers.CharField(max_length=1000)
    endpoint = serializers.CharField(max_length=500, required=False, allow_blank=True, default="")
    take_over = serializers.BooleanField(required=False, default=False)
    store = serializers.CharField(max_length=100, required=False, default=MAIN_NAME)


class ShelfStoreIn(serializers.Serializer[Any]):
    """The store where the bytes of a shelf are to live."""

    store = serializers.CharField(max_length=100)


class ShelfStoreOut(serializers.Serializer[Any]):
    """The store where the bytes of a shelf live, and the newest job that copied them."""

    store = serializers.CharField()
    moving = JobOut(allow_null=True)


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
        """Let the versions of a store live in a bucket, in another folder, or in the data folder, from now on, and move
        them there by a job, while they are read and written. For administrators of the installation."""
        asked = valid(MoveIn, request)
        return Response(job_json(homes.start_moving(caller_of(request), asked.pop("to"), **asked)), status=202)


class StoresView(ApiView):
    """Where bytes of shelves can live."""

    @extend_schema(operation_id="stores_list", responses=StoreName(many=True))
    def get(self, request: Any) -> Response:
        """List the stores among which whoever makes a shelf chooses."""
        require_scope(caller_of(request), "read")
        return Response(homes.list_stores())

    @extend_schema(operation_id="stores_make", request=NewStore, responses={201: StoreOut})
    def post(self, request: Any) -> Response:
        """Make a store; the place is tried first. For administrators of the installation."""
        asked = valid(NewStore, request)
        made = homes.make_store(caller_of(request), asked.pop("name"), asked.pop("to"), **asked)
        return Response(made, status=201)


class StoreView(ApiView):
    """One store."""

    @extend_schema(operation_id="stores_remove", responses={204: None})
    def delete(self, request: Any, name: str) -> Response:
        """Remove a store in which nothing lives any more. For administrators of the installation."""
        homes.remove_store(caller_of(request), name)
        return Response(status=204)


class ShelfStoreView(ShelfView):
    """Where the bytes of a shelf live."""

    @extend_schema(operation_id="shelf_store_get", responses=ShelfStoreOut)
    def get(self, request: Any, shelf: str) -> Response:
        """Say in which store the bytes of a shelf live, and how far they are there."""
        return Response(shelf_stores.shelf_store(self.shelf(request, shelf)[1]))

    @extend_schema(operation_id="shelf_store_change", request=ShelfStoreIn, responses=ShelfStoreOut)
    def put(self, request: Any, shelf: str) -> Response:
        """Let the bytes of a shelf live in another store: what is written from now on at once, what was written before
        by a job. For owners."""
        caller, found = self.shelf(request, shelf)
        return Response(shelf_stores.change_store(caller, found, valid(ShelfStoreIn, request)["store"]))


urlpatterns = [
    path("storage", StorageView.as_view()),
    path("storage/tidy", TidyView.as_view()),
    path("storage/unused", UnusedView.as_view()),
    path("storage/move", MoveView.as_view()),
    path("storage/stores", StoresView.as_view()),
    path("storage/stores/<str:name>", StoreView.as_view()),
    path("shelves/<str:shelf>/store", ShelfStoreView.as_view()),
]
