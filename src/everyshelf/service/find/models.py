"""Records of finding: the places of versions, and which versions branches hold. They are made again where lost.

The words themselves lie in ``find_text``, a full-text table of SQLite without contents of its own, whose row numbers
are those of ``FoundVersion``.
"""

from __future__ import annotations

from django.db import models

from everyshelf.service.shelves.models import ArtifactVersion, Branch, Commit, Shelf


class FoundVersion(models.Model):
    """The places of a version in which words are looked for, packed."""

    version = models.OneToOneField(ArtifactVersion, models.CASCADE, related_name="found")
    shelf = models.ForeignKey(Shelf, models.CASCADE, related_name="+")
    places = models.BinaryField()


class HeadVersion(models.Model):
    """That a version is at the head of a branch; of branches beside the main one, only what they hold differently."""

    branch = models.ForeignKey(Branch, models.CASCADE, related_name="+")
    path = models.CharField(max_length=4000)
    version = models.ForeignKey(ArtifactVersion, models.CASCADE, related_name="heads")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["branch", "path"], name="one_head_per_path")]


class SeenHead(models.Model):
    """Up to which commits of a branch, and of the main branch, the heads are known; ``read``: and all words in them."""

    branch = models.OneToOneField(Branch, models.CASCADE, related_name="+")
    commit = models.ForeignKey(Commit, models.CASCADE, null=True, related_name="+")
    main = models.ForeignKey(Commit, models.CASCADE, null=True, related_name="+")
    read = models.BooleanField(default=False)
