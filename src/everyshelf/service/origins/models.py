"""Records of origins: what each version carried over. They are worked out again where they are lost."""

from __future__ import annotations

from django.db import models

from everyshelf.service.shelves.models import ArtifactVersion


class VersionStep(models.Model):
    """What a version carried over from one of those it was made of; ``parent`` is empty for a first version.

    ``form``: parts of its outline, lines of its text, or rows of its tables. ``reader``: of which time the readers
    were. ``step``: packed.
    """

    version = models.ForeignKey(ArtifactVersion, models.CASCADE, related_name="steps")
    form = models.CharField(max_length=8)
    position = models.PositiveSmallIntegerField(default=0)
    parent = models.ForeignKey(ArtifactVersion, models.CASCADE, null=True, related_name="+")
    reader = models.PositiveIntegerField()
    step = models.BinaryField()

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["version", "form", "position"], name="one_step_per_parent"),
        ]


class KeptOrigins(models.Model):
    """The origins of a version, of every few: those of the others follow from them and the steps after."""

    version = models.ForeignKey(ArtifactVersion, models.CASCADE, related_name="+")
    form = models.CharField(max_length=8)
    reader = models.PositiveIntegerField()
    origins = models.BinaryField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["version", "form"], name="one_kept_per_version_and_form")]


class RowBlock(models.Model):
    """Rows of a table that a step says something of, packed, in the order of their keys; ``table``: where the artifact
    holds several. ``first`` and ``last``: the beginnings of their keys."""

    step = models.ForeignKey(VersionStep, models.CASCADE, related_name="blocks")
    table = models.CharField(max_length=200, blank=True)
    first = models.CharField(max_length=200)
    last = models.CharField(max_length=200)
    rows = models.BinaryField()

    class Meta:
        indexes = [models.Index(fields=["step", "table", "first"])]
