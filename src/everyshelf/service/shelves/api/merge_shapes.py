"""Shapes of requests and answers about merging."""

from __future__ import annotations

from typing import Any

from rest_framework import serializers

from everyshelf.core.answers.merges import ArtifactMerge
from everyshelf.service.http.answers import listed
from everyshelf.service.shelves.api.shapes import MessageIn


class MergeIn(MessageIn):
    """Merging a branch into another."""

    summary = serializers.CharField(max_length=300, required=False, default="", allow_blank=True)
    source = serializers.CharField()
    target = serializers.CharField()
    prefer = serializers.ChoiceField(["target", "source"], required=False, allow_null=True, default=None)
    delete_source = serializers.BooleanField(required=False, default=False)
    reason = serializers.CharField(max_length=2000, required=False, default="", allow_blank=True)


class MergeOut(serializers.Serializer[Any]):
    """The merge commit (null if there was nothing to merge), the base, how many artifacts were taken over, and how many
    of them both sides had changed."""

    commit = serializers.CharField(allow_null=True)
    base = serializers.CharField(allow_null=True)
    taken = serializers.IntegerField()
    combined = serializers.IntegerField()


class WaitingMerge(serializers.Serializer[Any]):
    """A merge that waits to be settled; ``decided`` conflicts are settled already."""

    id = serializers.CharField()
    target = serializers.CharField()
    source = serializers.CharField()
    state = serializers.ChoiceField(["open", "finished", "abandoned"])
    summary = serializers.CharField()
    delete_source = serializers.BooleanField()
    created = serializers.DateTimeField()
    created_by = serializers.CharField()
    decided = serializers.IntegerField()
    commit = serializers.CharField(allow_null=True)


class MergeDetail(WaitingMerge):
    """A merge with its artifacts; ``open`` conflicts are still to be settled."""

    open = serializers.IntegerField()
    artifacts = listed(ArtifactMerge)


class SoFarOut(serializers.Serializer[Any]):
    """The id of a content; null where the artifact is gone on the target."""

    content = serializers.CharField(allow_null=True)


class OneSettling(serializers.Serializer[Any]):
    """A decision: on one conflict of one artifact, on all its open ones (no conflict), or on all there are (no path).

    ``take`` null takes it back. ``content`` (with a path): the whole artifact as it was put together elsewhere.
    """

    path = serializers.CharField(required=False, allow_null=True, default=None, trim_whitespace=False)
    conflict = serializers.CharField(required=False, allow_null=True, default=None, trim_whitespace=False)
    take = serializers.ChoiceField(
        ["target", "source", "both", "edited"], required=False, allow_null=True, default=None
    )
    value = serializers.JSONField(required=False, allow_null=True, default=None)
    content = serializers.CharField(required=False, default="", allow_blank=True)


class SettlingIn(serializers.Serializer[Any]):
    """Decisions, in order."""

    decisions = OneSettling(many=True)


class FinishIn(serializers.Serializer[Any]):
    """What to say about the merge commit, if not what was said at first."""

    summary = serializers.CharField(max_length=300, required=False, default="", allow_blank=True)
