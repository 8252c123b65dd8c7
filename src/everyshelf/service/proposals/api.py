"""Proposals of a shelf."""

from __future__ import annotations

from typing import Any

from django.urls import path
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.response import Response

from everyshelf.service.http.views import number, one_of, valid
from everyshelf.service.proposals import shapes
from everyshelf.service.proposals.actions import looking, merging, proposals, talking
from everyshelf.service.proposals.models import Proposal
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.api.base import CURSOR, LIMIT, ShelfView
from everyshelf.service.shelves.models import Shelf

_STATES = ("open", "merged", "closed", "all")


class ProposalsView(ShelfView):
    """Proposals of a shelf."""

    @extend_schema(
        operation_id="proposals_list",
        parameters=[OpenApiParameter("state", str, enum=_STATES, description="Open ones if left out."), LIMIT, CURSOR],
        responses=shapes.ProposalPage,
    )
    def get(self, request: Any, shelf: str) -> Response:
        """List proposals, newest first."""
        _, found = self.shelf(request, shelf)
        state = one_of(request, "state", _STATES, "open", "a state of a proposal")
        limit, cursor = number(request, "limit", 100), request.query_params.get("cursor", "")
        return Response(looking.list_proposals(found, state, limit=limit, cursor=cursor))

    @extend_schema(operation_id="proposals_open", request=shapes.NewProposal, responses={201: shapes.ProposalOut})
    def post(self, request: Any, shelf: str) -> Response:
        """Open a proposal to merge a branch into another."""
        caller, found = self.shelf(request, shelf)
        values = valid(shapes.NewProposal, request)

        made = proposals.open_proposal(
            caller,
            found,
            values["title"],
            values["source"],
            values["target"] or found.main_branch,
            description=values["description"],
            tasks=values["tasks"],
            reviewers=values["reviewers"],
            delete_source=values["delete_source"],
        )
        return Response(looking.proposal_detail(caller, made), status=201)


class _OneProposal(ShelfView):
    """A view of one proposal."""

    def proposal(self, request: Any, shelf: str, number: int) -> tuple[Caller, Shelf, Proposal]:
        """The caller, the shelf and the proposal."""
        caller, found = self.shelf(request, shelf)
        return caller, found, proposals.get_proposal(found, number)


class ProposalView(_OneProposal):
    """One proposal."""

    @extend_schema(operation_id="proposals_get", responses=shapes.ProposalOut)
    def get(self, request: Any, shelf: str, number: int) -> Response:
        """Return a proposal with its conflicts, verdicts, remarks, checks, and what is not met yet."""
        caller, _, found = self.proposal(request, shelf, number)
        return Response(looking.proposal_detail(caller, found))

    @extend_schema(operation_id="proposals_change", request=shapes.ProposalChange, responses=shapes.ProposalOut)
    def patch(self, request: Any, shelf: str, number: int) -> Response:
        """Change a proposal's title, description or reviewers, close it without merging, or reopen it."""
        caller, _, found = self.proposal(request, shelf, number)
        values = valid(shapes.ProposalChange, request)
        state, reason = values.pop("state", None), values.pop("reason")
        if state == "open" and found.state != "open":
            found = proposals.reopen_proposal(caller, found)
        if values:
            found = proposals.change_proposal(caller, found, **values)
        if state == "closed":
            found = proposals.close_proposal(caller, found, reason)
        return Response(looking.proposal_detail(caller, found))


class RemarksView(_OneProposal):
    """Remarks on a proposal."""

    @extend_schema(operation_id="proposals_remark", request=shapes.NewRemark, responses={201: shapes.ProposalOut})
    def post(self, request: Any, shelf: str, number: int) -> Response:
        """Add a remark to a proposal, or answer one."""
        caller, _, found = self.proposal(request, shelf, number)
        values = valid(shapes.NewRemark, request)

        talking.remark(caller, found, **values)
        return Response(looking.proposal_detail(caller, found), status=201)


class RemarkView(_OneProposal):
    """One remark."""

    @extend_schema(operation_id="proposals_settle_remark", request=shapes.RemarkChange, responses=shapes.ProposalOut)
    def patch(self, request: Any, shelf: str, number: int, uid: str) -> Response:
        """Mark a remark as done or a condition as met, or undo that."""
        caller, _, found = self.proposal(request, shelf, number)
        values = valid(shapes.RemarkChange, request)
        talking.settle_remark(caller, talking.get_remark(found, uid), settled=values["settled"])
        return Response(looking.proposal_detail(caller, found))


class VerdictView(_OneProposal):
    """Verdicts."""

    @extend_schema(operation_id="proposals_verdict", request=shapes.NewVerdict, responses={201: shapes.ProposalOut})
    def post(self, request: Any, shelf: str, number: int) -> Response:
        """Give a verdict on a proposal; it replaces your earlier one."""
        caller, _, found = self.proposal(request, shelf, number)
        values = valid(shapes.NewVerdict, request)
        talking.give_verdict(caller, found, values["verdict"], values["text"], values["commit"])
        return Response(looking.proposal_detail(caller, found), status=201)


class MergeProposalView(_OneProposal):
    """Merging a proposal."""

    @extend_schema(operation_id="proposals_merge", request=shapes.MergeProposal, responses=shapes.ProposalOut)
    def post(self, request: Any, shelf: str, number: int) -> Response:
        """Merge a proposal; conflicts that are to be settled first are answered with 409 merge.conflict."""
        caller, _, found = self.proposal(request, shelf, number)
        values = valid(shapes.MergeProposal, request)

        merged = merging.merge_proposal(caller, found, **values)
        return Response(looking.proposal_detail(caller, merged))


urlpatterns = [
    path("", ProposalsView.as_view()),
    path("/<int:number>", ProposalView.as_view()),
    path("/<int:number>/remarks", RemarksView.as_view()),
    path("/<int:number>/remarks/<str:uid>", RemarkView.as_view()),
    path("/<int:number>/verdict", VerdictView.as_view()),
    path("/<int:number>/merge", MergeProposalView.as_view()),
]
