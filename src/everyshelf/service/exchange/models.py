"""Records of the exchange with Git: which commits are the same, and what is kept for Git."""

from __future__ import annotations

from django.db import models

from everyshelf.service.shelves.models import Commit, Shelf, Tag


class GitPair(models.Model):
    """A commit of the shelf and what it is in Git. A cache: the mapping gives the same id every time.

    ``mapping`` names the settings it was mapped by; empty are those of the repository that the shelf itself is.
    """

    shelf = models.ForeignKey(Shelf, models.CASCADE, related_name="+")
    commit = models.ForeignKey(Commit, models.CASCADE, related_name="git_pairs")
    mapping = models.CharField(max_length=40, blank=True)
    git = models.CharField(max_length=40)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["commit", "mapping"], name="one_git_pair_per_mapping")]
        indexes = [models.Index(fields=["shelf", "mapping", "git"])]


class KeptTag(models.Model):
    """What is kept for Git of a tag that came from there: a content."""

    tag = models.OneToOneField(Tag, models.CASCADE, related_name="kept_for_git")
    content = models.CharField(max_length=64)
