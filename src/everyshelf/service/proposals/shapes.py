"""Shapes of requests and answers about proposals."""

from __future__ import annotations

from typing import Any

from rest_framework import serializers

from everyshelf.service.checks.api import CheckOut
from everyshelf.service.proposals.models import VERDICTS


class ProposalBase(serializers.Serializer[Any]):
    """A proposal without what is worked out about it."""

    number = serializers.IntegerField()
    title = serializers.CharField()
    state = serializers.ChoiceField(["open", "merged", "closed"])
    source = serializers.CharField()
    target = serializers.CharField()
    created = serializers.DateTimeField()
    created_by = serializers.CharField()
    closed = serializers.DateTimeField(allow_null=True)
    closed_by = serializers.CharField(allow_null=True)
    reason = serializers.CharField()
    merged = serializers.CharField(allow_null=True)
    reviewers = serializers.ListField(child=serializers.CharField())


class ProposalListed(ProposalBase):
    """A proposal in a list, with how many remarks there are and how many are open."""

    remarks = serializers.IntegerField()
    remarks_open = serializers.IntegerField()


class ProposalPage(serializers.Serializer[Any]):
    """A page of proposals."""

    items = ProposalListed(many=True)
    total = serializers.IntegerField()
    next = serializers.CharField(allow_null=True)


class VerdictOut(serializers.Serializer[Any]):
    """A person's verdict; ``lapsed`` says why it is no longer in force, or is empty."""

    person = serializers.CharField()
    verdict = serializers.ChoiceField(VERDICTS)
    text = serializers.CharField()
    made = serializers.DateTimeField()
    commit = serializers.CharField()
    lapsed = serializers.CharField()


class PlaceOut(serializers.Serializer[Any]):
    """Where a remark's artifact and part are now; null for what is gone."""

    path = serializers.CharField(allow_null=True)
    part = serializers.CharField(allow_null=True)
    label = serializers.CharField()


class RemarkAnswer(serializers.Serializer[Any]):
    """A remark: on the whole (no path), an artifact, or a part as it was at ``commit``.

    A ``condition`` must be settled (marked as met) before the proposal can be merged.
    """

    id = serializers.CharField()
    person = serializers.CharField()
    made = serializers.DateTimeField()
    text = serializers.CharField()
    condition = serializers.BooleanField()
    commit = serializers.CharField()
    path = serializers.CharField()
    part = serializers.CharField()
    label = serializers.CharField()
    now = PlaceOut(allow_null=True)
    settled = serializers.DateTimeField(allow_null=True)
    settled_by = serializers.CharField(allow_null=True)


class RemarkOut(RemarkAnswer):
    """A remark with its answers."""

    answers = RemarkAnswer(many=True)


class UnmetOut(serializers.Serializer[Any]):
    """A requirement for merging that is not met."""

    what = serializers.ChoiceField(["branch", "conflicts", "verdict", "condition", "agreement", "check"])
    message = serializers.CharField()


class ProposedConflict(serializers.Serializer[Any]):
    """A conflict that merging would have."""

    path = serializers.CharField()
    kind = serializers.CharField()
    part = serializers.CharField()
    why = serializers.CharField()


class ProposalOut(ProposalBase):
    """A proposal with all details. ``merge``: its open merge; ``not_met``: why it cannot be merged yet."""

    description = serializers.CharField()
    tasks = serializers.ListField(child=serializers.CharField())
    delete_source = serializers.BooleanField()
    remarks_open = serializers.IntegerField()
    head = serializers.CharField()
    base = serializers.CharField(allow_null=True)
    ahead = serializers.IntegerField()
    behind = serializers.IntegerField()
    verdicts = VerdictOut(many=True)
    remarks = RemarkOut(many=True)
    checks = CheckOut(many=True)
    conflicts = ProposedConflict(many=True)
    combined = serializers.IntegerField()
    not_met = UnmetOut(many=True)
    reading = serializers.CharField(allow_null=True, help_text="job that works out what merging gives, while it does")
    merge = serializers.CharField(allow_null=True)
    may_merge = serializers.BooleanField()
    may_change = serializers.BooleanField()
    may_judge = serializers.BooleanField()
    who_merges = serializers.ChoiceField(["keepers", "authors"])


class NewProposal(serializers.Serializer[Any]):
    """A proposal to open. ``delete_source``: delete the source branch once it is merged."""

    title = serializers.CharField(max_length=300)
    source = serializers.CharField()
    target = serializers.CharField(required=False, default="", allow_blank=True)
    description = serializers.CharField(required=False, default="", allow_blank=True)
    tasks = serializers.ListField(child=serializers.CharField(max_length=100), required=False, default=list)
    reviewers = serializers.ListField(child=serializers.CharField(), required=False, default=list)
    delete_source = serializers.BooleanField(required=False, default=False)


class ProposalChange(serializers.Serializer[Any]):
    """Changes to a proposal; fields left out stay as they are. ``state``: closed, with a ``reason``, or open again."""

    title = serializers.CharField(required=False, max_length=300)
    description = serializers.CharField(required=False, allow_blank=True)
    reviewers = serializers.ListField(child=serializers.CharField(), required=False)
    delete_source = serializers.BooleanField(required=False)
    state = serializers.ChoiceField(["open", "closed"], required=False)
    reason = serializers.CharField(required=False, default="", allow_blank=True)


class NewRemark(serializers.Serializer[Any]):
    """A remark on the whole, an artifact or a part; or the answer to one.

    ``condition``: keeps the proposal from being merged until it is marked as met.
    """

    text = serializers.CharField()
    path = serializers.CharField(required=False, default="", allow_blank=True, trim_whitespace=False)
    part = serializers.CharField(required=False, default="", allow_blank=True, max_length=2000)
    label = serializers.CharField(required=False, default="", allow_blank=True)
    answer_to = serializers.CharField(required=False, default="", allow_blank=True)
    condition = serializers.BooleanField(required=False, default=False)


class RemarkChange(serializers.Serializer[Any]):
    """Whether the remark is done, or the condition met."""

    settled = serializers.BooleanField()


class NewVerdict(serializers.Serializer[Any]):
    """A verdict; ``commit``: the state it is about, refused if the source has newer commits."""

    verdict = serializers.CharField()
    text = serializers.CharField(required=False, default="", allow_blank=True)
    commit = serializers.CharField(required=False, default="", allow_blank=True)


class MergeProposal(serializers.Serializer[Any]):
    """Merging; ``reason``: why it is merged although a requirement is not met."""

    reason = serializers.CharField(required=False, default="", allow_blank=True)
    summary = serializers.CharField(required=False, default="", allow_blank=True, max_length=300)
    delete_source = serializers.BooleanField(required=False, allow_null=True, default=None)


class WaitingOut(serializers.Serializer[Any]):
    """A task of the caller."""

    shelf = serializers.CharField()
    shelf_name = serializers.CharField()
    what = serializers.ChoiceField(["verdict", "answer", "fix", "merge", "settle"])
    message = serializers.CharField()
    title = serializers.CharField()
    proposal = serializers.IntegerField(allow_null=True)
    merge = serializers.CharField(allow_null=True)
    since = serializers.DateTimeField()
