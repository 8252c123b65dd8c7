"""Drafts over HTTP: always the caller's own."""

from __future__ import annotations

from typing import Any

from django.urls import path
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response

from everyshelf.core.answers.base import as_builtins
from everyshelf.core.answers.drafts import DraftKeeping
from everyshelf.core.errors import InvalidError
from everyshelf.service.drafts import actions
from everyshelf.service.drafts.keeping import change_keeping, describe_keeping
from everyshelf.service.drafts.parcels import unpack_into_draft
from everyshelf.service.http.answers import answered
from everyshelf.service.http.views import number, valid
from everyshelf.service.shelves.actions import listing
from everyshelf.service.shelves.api import shapes
from everyshelf.service.shelves.api.base import ShelfView, message_of

_FEWEST_DRAFT_DAYS = 7  # nobody should lose work over a holiday
_MOST_DAYS = 3650
BRANCH = OpenApiParameter("branch", str, required=True, description="The branch the draft is of.")


class PointOut(serializers.Serializer[Any]):
    """A save point: what an artifact was in the draft (content null: gone), and the commit that took it up."""

    point = serializers.IntegerField()
    path = serializers.CharField()
    moved_from = serializers.CharField()
    state = serializers.ChoiceField(["new", "edited", "moved", "gone", "discarded"])
    content = serializers.CharField(allow_null=True)
    size = serializers.IntegerField()
    made = serializers.DateTimeField()
    commit = serializers.CharField(allow_null=True)


class DraftOut(serializers.Serializer[Any]):
    """A draft: the commit it builds on, the branch's head, and what is pending. ``until``: when that is discarded if
    nothing more is saved, null for never."""

    branch = serializers.CharField()
    base = serializers.CharField(allow_null=True)
    head = serializers.CharField(allow_null=True)
    behind = serializers.BooleanField()
    saved = serializers.DateTimeField(allow_null=True)
    until = serializers.DateTimeField(allow_null=True)
    entries = PointOut(many=True)


class SavingIn(serializers.Serializer[Any]):
    """An edit: uploaded content at a path, null where it is gone; ``onto`` the save point it was made on (0: none)."""

    path = serializers.CharField(trim_whitespace=False)
    content = serializers.CharField(allow_null=True)
    moved_from = serializers.CharField(required=False, default="", allow_blank=True, trim_whitespace=False)
    onto = serializers.IntegerField(required=False, allow_null=True, default=None, min_value=0)


class SaveIn(serializers.Serializer[Any]):
    """Edits to keep, all or none; ``base`` is the commit they build on."""

    branch = serializers.CharField()
    base = serializers.CharField(required=False, allow_null=True, default=None)
    entries = SavingIn(many=True)


class ChosenIn(serializers.Serializer[Any]):
    """Entries of a draft; null for all."""

    branch = serializers.CharField()
    paths = serializers.ListField(child=serializers.CharField(trim_whitespace=False), allow_null=True, default=None)


class RestorePointIn(serializers.Serializer[Any]):
    """The number of a save point."""

    branch = serializers.CharField()
    point = serializers.IntegerField(min_value=1)


class DraftCommitIn(shapes.MessageIn):
    """A commit of pending entries, of all where ``paths`` is null."""

    branch = serializers.CharField()
    paths = serializers.ListField(child=serializers.CharField(trim_whitespace=False), allow_null=True, default=None)
    merge = serializers.BooleanField(required=False, default=False)
    prefer = serializers.ChoiceField(["target", "source"], required=False, allow_null=True, default=None)


class DraftKeepingIn(serializers.Serializer[Any]):
    """Days that saved work is kept; null for as long as the shelf. What is left out stays as it is."""

    strict = True
    save_points = serializers.IntegerField(
        required=False,
        allow_null=True,
        min_value=1,
        max_value=_MOST_DAYS,
        help_text="Save points that no longer count: the artifact was saved again, committed or discarded.",
    )
    drafts = serializers.IntegerField(
        required=False,
        allow_null=True,
        min_value=_FEWEST_DRAFT_DAYS,
        max_value=_MOST_DAYS,
        help_text="Pending changes, from when their draft was last saved.",
    )


class DraftKeepingView(ShelfView):
    """How long saved work is kept."""

    @extend_schema(operation_id="drafts_keeping", responses=answered(DraftKeeping))
    def get(self, request: Any, shelf: str) -> Response:
        """Return how long save points and drafts of this shelf are kept, and how many go at the next hour."""
        _, found = self.shelf(request, shelf)
        return Response(as_builtins(describe_keeping(found)))

    @extend_schema(operation_id="drafts_change_keeping", request=DraftKeepingIn, responses=answered(DraftKeeping))
    def patch(self, request: Any, shelf: str) -> Response:
        """Change how long save points and drafts are kept. Drafts whose time is over are discarded, save points that
        no longer count are removed, within the hour."""
        caller, found = self.shelf(request, shelf)
        change_keeping(caller, found, valid(DraftKeepingIn, request))
        return Response(as_builtins(describe_keeping(found)))


class DraftsView(ShelfView):
    """The caller's drafts."""

    @extend_schema(operation_id="drafts_list", responses=DraftOut(many=True))
    def get(self, request: Any, shelf: str) -> Response:
        """List your drafts that have pending changes."""
        caller, found = self.shelf(request, shelf)
        return Response(actions.list_drafts(caller, found))

    @extend_schema(operation_id="drafts_save", request=SaveIn, responses=DraftOut)
    def post(self, request: Any, shelf: str) -> Response:
        """Save edits in your draft as they are made."""
        caller, found = self.shelf(request, shelf, "commit")
        values = valid(SaveIn, request)
        wanted = [actions.Saving(e["path"], e["content"], e["moved_from"], e["onto"]) for e in values["entries"]]
        return Response(actions.save(caller, found, values["branch"], values["base"], wanted))


class PointsView(ShelfView):
    """The trail of a draft."""

    @extend_schema(
        operation_id="drafts_points",
        responses=PointOut(many=True),
        parameters=[
            BRANCH,
            OpenApiParameter("path", str, description="Only of this artifact."),
            OpenApiParameter("before", int, description="Only save points before this number."),
        ],
    )
    def get(self, request: Any, shelf: str) -> Response:
        """List the save points of your draft, newest first, also those committed or discarded."""
        caller, found = self.shelf(request, shelf)
        draft = actions.get_draft(caller, found, _branch(request))
        before = number(request, "before", 0) if "before" in request.query_params else None
        return Response(actions.list_points(draft, request.query_params.get("path", ""), before))


class DiscardView(ShelfView):
    """Giving entries up."""

    @extend_schema(operation_id="drafts_discard", request=ChosenIn, responses=DraftOut)
    def post(self, request: Any, shelf: str) -> Response:
        """Discard pending changes of your draft. Their save points are kept."""
        caller, found = self.shelf(request, shelf, "commit")
        values = valid(ChosenIn, request)
        return Response(actions.discard(caller, actions.get_draft(caller, found, values["branch"]), values["paths"]))


class RestorePointView(ShelfView):
    """Bringing a save point back."""

    @extend_schema(operation_id="drafts_restore", request=RestorePointIn, responses=DraftOut)
    def post(self, request: Any, shelf: str) -> Response:
        """Make a save point the current content of the draft again."""
        caller, found = self.shelf(request, shelf, "commit")
        values = valid(RestorePointIn, request)
        return Response(
            actions.restore_point(caller, actions.get_draft(caller, found, values["branch"]), values["point"])
        )


class DraftCommitView(ShelfView):
    """Committing from a draft."""

    @extend_schema(operation_id="drafts_commit", request=DraftCommitIn, responses={201: shapes.CommitOut})
    def post(self, request: Any, shelf: str) -> Response:
        """Commit everything pending in your draft, or a selection; the rest stays pending."""
        caller, found = self.shelf(request, shelf, "commit")
        values = valid(DraftCommitIn, request)

        draft = actions.get_draft(caller, found, values["branch"])
        made = actions.commit_draft(
            caller, draft, values["paths"], message_of(values), merge=values["merge"], prefer=values["prefer"]
        )
        return Response(listing.commit_json(made), status=201)


def _branch(request: Any) -> str:
    branch: str = request.query_params.get("branch", "")
    if not branch:
        raise InvalidError("the address lacks branch=…", code="input.missing_branch", hint="Name the branch.")
    return branch


class ParcelIn(serializers.Serializer[Any]):
    """Which uploaded content is a parcel, and the branch whose draft it goes into."""

    content = serializers.CharField(max_length=64)
    branch = serializers.CharField(max_length=120)


class UnpackedArtifact(serializers.Serializer[Any]):
    """An artifact of the parcel that is in the draft now."""

    path = serializers.CharField()
    state = serializers.ChoiceField(["added", "changed"])


class UnpackedOut(serializers.Serializer[Any]):
    """What a parcel brought; ``same``: how many were there already."""

    parcel = serializers.CharField()
    branch = serializers.CharField()
    artifacts = UnpackedArtifact(many=True)
    same = serializers.IntegerField()
    pending = serializers.IntegerField()


class ParcelIntoDraftView(ShelfView):
    """Unpacking a parcel."""

    @extend_schema(operation_id="drafts_unpack", request=ParcelIn, responses=UnpackedOut)
    def post(self, request: Any, shelf: str) -> Response:
        """Verify an uploaded parcel and save its artifacts in your draft."""
        caller, found = self.shelf(request, shelf, "commit")
        values = valid(ParcelIn, request)
        return Response(unpack_into_draft(caller, found, values["branch"], values["content"]))


urlpatterns = [
    path("", DraftsView.as_view()),
    path("/points", PointsView.as_view()),
    path("/discard", DiscardView.as_view()),
    path("/unpack", ParcelIntoDraftView.as_view()),
    path("/restore", RestorePointView.as_view()),
    path("/keeping", DraftKeepingView.as_view()),
    path("/commit", DraftCommitView.as_view()),
]
