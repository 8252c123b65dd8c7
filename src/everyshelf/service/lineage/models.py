"""Records of lineage: which contents runs and commits read and wrote. They are made again where lost."""

from __future__ import annotations

from django.db import models

from everyshelf.service.experiments.models import Run
from everyshelf.service.shelves.models import Artifact, Commit, Shelf


class MakingStep(models.Model):
    """A run, or a commit that says what it was made from: one of both."""

    shelf = models.ForeignKey(Shelf, models.CASCADE, related_name="+")
    run = models.OneToOneField(Run, models.CASCADE, null=True, related_name="+")
    commit = models.OneToOneField(Commit, models.CASCADE, null=True, related_name="+")
    missing = models.JSONField(default=list)  # what it says it read, and that was not there

    class Meta:
        constraints = [
            models.CheckConstraint(
                condition=models.Q(run=None, commit__isnull=False) | models.Q(run__isnull=False, commit=None),
                name="a_run_or_a_commit",
            )
        ]


class MakingPart(models.Model):
    """A content that a step read, or wrote, and the artifact it was of; ``path`` is that of the artifact then."""

    step = models.ForeignKey(MakingStep, models.CASCADE, related_name="parts")
    artifact = models.ForeignKey(Artifact, models.CASCADE, null=True, related_name="+")
    path = models.CharField(max_length=4000)
    content = models.CharField(max_length=64)
    wrote = models.BooleanField()

    class Meta:
        indexes = [models.Index(fields=["content", "wrote"])]
