"""Records of drafts. Contents are on the shelf, as those of commits are."""

from __future__ import annotations

from django.contrib.auth.models import User
from django.db import models
from django.db.models import Q

from everyshelf.service.shelves.models import Commit, Shelf

PENDING_STATES = ["new", "edited", "moved", "gone"]


class Draft(models.Model):
    """What one person changed on one branch and did not commit yet. ``base`` is the commit it builds on."""

    person = models.ForeignKey(User, models.CASCADE, related_name="drafts")
    shelf = models.ForeignKey(Shelf, models.CASCADE, related_name="drafts")
    branch = models.CharField(max_length=120)
    base = models.ForeignKey(Commit, models.PROTECT, null=True, related_name="+")
    points_made = models.PositiveIntegerField(default=0)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["person", "shelf", "branch"], name="one_draft_per_branch")]


class SavePoint(models.Model):
    """One state of one artifact in a draft; numbers count up within it.

    ``content`` is empty where the artifact is gone. ``state``: new, edited, moved or gone against the base;
    ``discarded`` says that it was given up. ``commit`` took it up. ``newest``: the last one of its path. ``made_on`` is
    the state (a root) it was made on, where the draft has gone on from there since; empty: the draft's base.
    ``credit``: who made it where, if that was someone else; it goes into the description of the commit.
    """

    draft = models.ForeignKey(Draft, models.CASCADE, related_name="points")
    number = models.PositiveIntegerField()
    path = models.CharField(max_length=1000)
    moved_from = models.CharField(max_length=1000, blank=True)
    state = models.CharField(max_length=12)
    content = models.CharField(max_length=64, blank=True)
    size = models.PositiveBigIntegerField(default=0)
    made = models.DateTimeField()
    commit = models.ForeignKey(Commit, models.SET_NULL, null=True, related_name="+")
    newest = models.BooleanField(default=True)
    made_on = models.CharField(max_length=64, blank=True)
    credit = models.CharField(max_length=300, blank=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["draft", "number"], name="one_point_per_number"),
            models.UniqueConstraint(fields=["draft", "path"], condition=Q(newest=True), name="one_newest_per_path"),
            models.CheckConstraint(condition=Q(state__in=[*PENDING_STATES, "discarded"]), name="known_point_state"),
        ]


class KeepingRule(models.Model):
    """How many days a shelf keeps what was saved; null for as long as the shelf. ``save_points``: those that no longer
    count; ``drafts``: pending changes, from when their draft was last saved."""

    shelf = models.OneToOneField(Shelf, models.CASCADE, related_name="keeping_rule")
    save_points = models.PositiveIntegerField(null=True)
    drafts = models.PositiveIntegerField(null=True)
