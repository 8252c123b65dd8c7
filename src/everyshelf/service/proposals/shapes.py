"""Shapes of requests and answers about proposals."""

from __future__ import annotations

from rest_framework import serializers

from everyshelf.service.checks.api import CheckOut
from everyshelf.service.proposals.models import VERDICTS


class ProposalBase(serializers.Serializer):
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
    why = serializers.CharField()
    merged = serializers.CharField(allow_null=True)
    reviewers = serializers.ListField(child=serializers.CharField())


class ProposalListed(ProposalBase):
    """A proposal in a list, with how many remarks there are and how many are open."""

    remarks = serializers.IntegerField()
    remarks_open = serializers.IntegerField()


class VerdictOut(serializers.Serializer):
    """What somebody thinks of it; ``lapsed`` says why that is not in force any more, or is empty."""

    person = serializers.CharField()
    verdict = serializers.ChoiceField(VERDICTS)
    text = serializers.CharField()
    made = serializers.DateTimeField()
    commit = serializers.CharField()
    lapsed = serializers.CharField()


class PlaceOut(serializers.Serializer):
    """Where a remark's artifact and part are now; null for what is gone."""

    path = serializers.CharField(allow_null=True)
    part = serializers.CharField(allow_null=True)
    label = serializers.CharField()


class RemarkAnswer(serializers.Serializer):
    """Something said: about the whole (no path), an artifact, or a part as it was at ``commit``."""

    id = serializers.CharField()
    person = serializers.CharField()
    made = serializers.DateTimeField()
    text = serializers.CharField()
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


class HoldOut(serializers.Serializer):
    """Something that stands in the way of merging."""

    what = serializers.ChoiceField(["branch", "conflicts", "verdict", "agreement", "check"])
    said = serializers.CharField()


class ProposedConflict(serializers.Serializer):
    """What would have to be settled."""

    path = serializers.CharField()
    kind = serializers.CharField()
    part = serializers.CharField()
    why = serializers.CharField()


class ProposalOut(ProposalBase):
    """Everything about a proposal as it stands now. ``merge``: the merge of it that waits to be settled."""

    description = serializers.CharField()
    tasks = serializers.ListField(child=serializers.CharField())
    drop = serializers.BooleanField()
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
    holds = HoldOut(many=True)
    reading = serializers.CharField(allow_null=True, help_text="job that works out what merging gives, while it does")
    merge = serializers.CharField(allow_null=True)
    may_merge = serializers.BooleanField()
    may_change = serializers.BooleanField()
    may_judge = serializers.BooleanField()
    who_merges = serializers.ChoiceField(["keepers", "authors"])


class NewProposal(serializers.Serializer):
    """A proposal to be opened."""

    title = serializers.CharField(max_length=300)
    source = serializers.CharField()
    target = serializers.CharField(required=False, default="", allow_blank=True)
    description = serializers.CharField(required=False, default="", allow_blank=True)
    tasks = serializers.ListField(child=serializers.CharField(max_length=100), required=False, default=list)
    reviewers = serializers.ListField(child=serializers.CharField(), required=False, default=list)
    drop = serializers.BooleanField(required=False, default=False)


class ProposalChange(serializers.Serializer):
    """What is to be changed; what is left out stays. ``state``: closed, with ``why``, or open again."""

    title = serializers.CharField(required=False, max_length=300)
    description = serializers.CharField(required=False, allow_blank=True)
    reviewers = serializers.ListField(child=serializers.CharField(), required=False)
    drop = serializers.BooleanField(required=False)
    state = serializers.ChoiceField(["open", "closed"], required=False)
    why = serializers.CharField(required=False, default="", allow_blank=True)


class NewRemark(serializers.Serializer):
    """A remark on the whole, an artifact or a part; or the answer to one."""

    text = serializers.CharField()
    path = serializers.CharField(required=False, default="", allow_blank=True, trim_whitespace=False)
    part = serializers.CharField(required=False, default="", allow_blank=True, max_length=2000)
    label = serializers.CharField(required=False, default="", allow_blank=True)
    answer_to = serializers.CharField(required=False, default="", allow_blank=True)


class RemarkChange(serializers.Serializer):
    """Whether it is dealt with."""

    settled = serializers.BooleanField()


class NewVerdict(serializers.Serializer):
    """A verdict; ``commit``: the state one looked at, refused if the source moved on since."""

    verdict = serializers.CharField()
    text = serializers.CharField(required=False, default="", allow_blank=True)
    commit = serializers.CharField(required=False, default="", allow_blank=True)


class MergeProposal(serializers.Serializer):
    """Merging; ``anyway`` says why it is done though something holds it."""

    anyway = serializers.CharField(required=False, default="", allow_blank=True)
    summary = serializers.CharField(required=False, default="", allow_blank=True, max_length=300)
    drop = serializers.BooleanField(required=False, allow_null=True, default=None)


class WaitingOut(serializers.Serializer):
    """Something that waits for the caller."""

    shelf = serializers.CharField()
    shelf_name = serializers.CharField()
    what = serializers.ChoiceField(["verdict", "answer", "mend", "merge", "settle"])
    said = serializers.CharField()
    title = serializers.CharField()
    proposal = serializers.IntegerField(allow_null=True)
    merge = serializers.CharField(allow_null=True)
    since = serializers.DateTimeField()
