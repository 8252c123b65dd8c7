"""Merging branches, and merges that wait to be settled."""

from __future__ import annotations

from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework.response import Response

from everyshelf.core.answers.drawings import NO_DRAWING, Drawing
from everyshelf.service.http.answers import answered
from everyshelf.service.http.views import path_of, valid
from everyshelf.service.shelves.actions import drawings, listing, merging
from everyshelf.service.shelves.api import merge_shapes as shapes
from everyshelf.service.shelves.api.base import PATH, ShelfView, message_of
from everyshelf.service.shelves.api.shapes import CommitOut


class MergeView(ShelfView):
    """Merging branches."""

    @extend_schema(operation_id="branches_merge", request=shapes.MergeIn, responses=shapes.MergeOut)
    def post(self, request: Any, shelf: str) -> Response:
        """Merge a branch into another; conflicts that are to be settled first are answered with 409 merge.conflict."""
        caller, found = self.shelf(request, shelf)
        values = valid(shapes.MergeIn, request)
        message = message_of(values, f"Merge {values['source']} into {values['target']}")

        result = merging.merge_branch(
            caller,
            found,
            values["source"],
            values["target"],
            message,
            values["prefer"],
            delete_source=values["delete_source"],
            reason=values["reason"],
        )
        return Response(result)


class MergesView(ShelfView):
    """Merges that wait."""

    @extend_schema(operation_id="merges_list", responses=shapes.WaitingMerge(many=True))
    def get(self, request: Any, shelf: str) -> Response:
        """List open merges, newest first."""
        _, found = self.shelf(request, shelf)
        return Response(merging.list_merges(found))


class OneMergeView(ShelfView):
    """One merge that waits, or did."""

    @extend_schema(operation_id="merges_get", responses=shapes.MergeDetail)
    def get(self, request: Any, shelf: str, uid: str) -> Response:
        """Return a merge: every artifact changed on both sides, with its conflicts and decisions."""
        _, found = self.shelf(request, shelf)
        merge = merging.get_merge(found, uid)
        return Response(merging.merge_detail(merge) if merge.state == "open" else _closed(merge))

    @extend_schema(operation_id="merges_abandon", responses={204: None})
    def delete(self, request: Any, shelf: str, uid: str) -> Response:
        """Abandon a merge; both branches stay unchanged."""
        caller, found = self.shelf(request, shelf)
        merging.abandon_merge(caller, merging.get_merge(found, uid))
        return Response(status=204)


class MergeDrawingView(ShelfView):
    """A merged pipeline or workflow as a drawing."""

    @extend_schema(operation_id="merges_drawing", responses=answered(Drawing), parameters=[PATH])
    def get(self, request: Any, shelf: str, uid: str) -> Response:
        """Return the target and the result of the merge in one drawing; without nodes while a conflict is open, or
        for a kind without drawings."""
        _, found = self.shelf(request, shelf)
        merge = merging.get_merge(found, uid)
        sides = merging.result_of(merge, path_of(request))
        if sides is None:
            return Response(NO_DRAWING)
        path, before, result, rules = sides
        return Response(drawings.drawing_between(path, before, path, result, rules))


class SoFarView(ShelfView):
    """An artifact as it is merged so far."""

    @extend_schema(operation_id="merges_so_far", responses=shapes.SoFarOut, parameters=[PATH])
    def get(self, request: Any, shelf: str, uid: str) -> Response:
        """Return the content of an artifact with all that is merged and settled so far; where something is still to be
        settled, as the target has it."""
        _, found = self.shelf(request, shelf)
        return Response({"content": merging.so_far(merging.get_merge(found, uid), path_of(request))})


class DecisionsView(ShelfView):
    """Settling conflicts."""

    @extend_schema(operation_id="merges_settle", request=shapes.SettlingIn, responses=shapes.MergeDetail)
    def post(self, request: Any, shelf: str, uid: str) -> Response:
        """Settle conflicts of a merge; a decision without ``take`` is undone."""
        caller, found = self.shelf(request, shelf)
        values = valid(shapes.SettlingIn, request)
        wanted = [
            merging.Settling(d["path"], d["conflict"], d["take"], d["value"], d["content"]) for d in values["decisions"]
        ]
        return Response(merging.merge_detail(merging.settle(caller, merging.get_merge(found, uid), wanted)))


class FinishView(ShelfView):
    """Finishing a merge."""

    @extend_schema(operation_id="merges_finish", request=shapes.FinishIn, responses={201: CommitOut})
    def post(self, request: Any, shelf: str, uid: str) -> Response:
        """Create the merge commit, with the decisions in its description."""
        caller, found = self.shelf(request, shelf)
        values = valid(shapes.FinishIn, request)

        made = merging.finish_merge(caller, merging.get_merge(found, uid), values["summary"])
        return Response(listing.commit_json(made), status=201)


def _closed(merge: Any) -> dict[str, Any]:
    return {**merging.merge_json(merge), "open": 0, "artifacts": []}
