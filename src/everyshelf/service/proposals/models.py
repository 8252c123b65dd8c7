"""Records of proposals. Branches are kept by name: one may be deleted while the remarks on it stay."""

from __future__ import annotations

from django.contrib.auth.models import User
from django.db import models
from django.db.models import Q

from everyshelf.service.shelves.models import Commit, Shelf

VERDICTS = ("agree", "against")


class Proposal(models.Model):
    """That ``source`` be merged into ``target``. ``head``: the newest commit of the source that was seen.

    ``base``: where both lines parted, of a proposal that is closed. ``merged``: the commit that brought it in.
    """

    shelf = models.ForeignKey(Shelf, models.CASCADE, related_name="proposals")
    number = models.PositiveIntegerField()
    title = models.CharField(max_length=300)
    description = models.TextField(blank=True)
    source = models.CharField(max_length=120)
    target = models.CharField(max_length=120)
    delete_source = models.BooleanField(default=False)
    tasks = models.JSONField(default=list)
    state = models.CharField(max_length=10, default="open")
    reason = models.TextField(blank=True)
    head = models.ForeignKey(Commit, models.PROTECT, related_name="+")
    base = models.ForeignKey(Commit, models.PROTECT, null=True, related_name="+")
    merged = models.ForeignKey(Commit, models.PROTECT, null=True, related_name="+")
    created = models.DateTimeField()
    created_by = models.ForeignKey(User, models.PROTECT, related_name="+")
    closed = models.DateTimeField(null=True)
    closed_by = models.ForeignKey(User, models.PROTECT, null=True, related_name="+")

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["shelf", "number"], name="one_proposal_per_number"),
            models.UniqueConstraint(
                fields=["shelf", "source", "target"], condition=Q(state="open"), name="one_open_proposal_per_pair"
            ),
            models.CheckConstraint(condition=Q(state__in=["open", "merged", "closed"]), name="known_proposal_state"),
        ]
        indexes = [models.Index(fields=["shelf", "state", "-number"])]

    def __str__(self) -> str:
        return f"{self.number} {self.title}"


class Reviewer(models.Model):
    """A person who was asked for a verdict."""

    proposal = models.ForeignKey(Proposal, models.CASCADE, related_name="reviewers")
    person = models.ForeignKey(User, models.CASCADE, related_name="+")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["proposal", "person"], name="one_reviewer_per_person")]


class Verdict(models.Model):
    """A person's verdict on the proposal at a commit; a later one of the same person replaces it."""

    proposal = models.ForeignKey(Proposal, models.CASCADE, related_name="verdicts")
    person = models.ForeignKey(User, models.PROTECT, related_name="+")
    commit = models.ForeignKey(Commit, models.PROTECT, related_name="+")
    verdict = models.CharField(max_length=10)
    text = models.TextField(blank=True)
    made = models.DateTimeField()

    class Meta:
        constraints = [models.CheckConstraint(condition=Q(verdict__in=list(VERDICTS)), name="known_verdict")]


class Remark(models.Model):
    """A remark on the proposal as a whole, an artifact, or a part of one as it was at ``commit``.

    A ``condition`` keeps the proposal from being merged until it is settled, that is, marked as met.
    """

    proposal = models.ForeignKey(Proposal, models.CASCADE, related_name="remarks")
    uid = models.CharField(max_length=12)
    person = models.ForeignKey(User, models.PROTECT, related_name="+")
    commit = models.ForeignKey(Commit, models.PROTECT, related_name="+")
    path = models.CharField(max_length=1000, blank=True)
    artifact = models.CharField(max_length=32, blank=True)
    part = models.CharField(max_length=2000, blank=True)
    label = models.CharField(max_length=300, blank=True)
    text = models.TextField()
    condition = models.BooleanField(default=False)
    made = models.DateTimeField()
    answer_to = models.ForeignKey("self", models.CASCADE, null=True, related_name="answers")
    settled = models.DateTimeField(null=True)
    settled_by = models.ForeignKey(User, models.PROTECT, null=True, related_name="+")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["proposal", "uid"], name="one_remark_per_id")]
