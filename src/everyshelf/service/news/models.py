"""Records of who looked at what was done on a shelf, and of what people follow."""

from __future__ import annotations

from django.contrib.auth.models import User
from django.db import models
from django.db.models import Q

from everyshelf.service.shelves.models import Artifact, Shelf


class LastLook(models.Model):
    """Up to which entry of the log a person has seen what was done on a shelf, and when that was said."""

    shelf = models.ForeignKey(Shelf, models.CASCADE, related_name="+")
    person = models.ForeignKey(User, models.CASCADE, related_name="+")
    entry = models.PositiveBigIntegerField()
    time = models.DateTimeField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["shelf", "person"], name="one_last_look")]


class Followed(models.Model):
    """An artifact, under whatever path, or a branch, by name, that a person follows."""

    shelf = models.ForeignKey(Shelf, models.CASCADE, related_name="+")
    person = models.ForeignKey(User, models.CASCADE, related_name="+")
    artifact = models.ForeignKey(Artifact, models.CASCADE, null=True, related_name="+")
    branch = models.CharField(max_length=120, blank=True)
    since = models.DateTimeField()

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["shelf", "person", "artifact"], condition=Q(branch=""), name="artifact_followed_once"
            ),
            models.UniqueConstraint(
                fields=["shelf", "person", "branch"], condition=Q(artifact__isnull=True), name="branch_followed_once"
            ),
            models.CheckConstraint(
                condition=Q(artifact__isnull=True, branch__gt="") | Q(artifact__isnull=False, branch=""),
                name="one_thing_followed",
            ),
        ]
