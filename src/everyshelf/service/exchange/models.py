"""Records of the exchange with Git: which commits are the same, and what is kept for Git."""

from __future__ import annotations

from django.contrib.auth.models import User
from django.db import models
from django.db.models import Q

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


class GitLink(models.Model):
    """A shelf joined to a repository somewhere. ``branches``: pairs of names, of the shelf and of Git; empty: all of
    them, under the same names. ``token`` and ``key`` are sealed. ``state`` is how far the two are from each other as
    of ``looked``, since ``since``; ``lines``: the same for each branch. ``seen_commit``: the newest commit by then.
    ``folder``: the one folder or artifact it is about, empty for all; ``place``: where that is in the repository, empty
    for its root; ``side``: the shelf that then holds the history of that part. ``calls``: the sealed secret with which
    the other side says that it has something new.
    """

    shelf = models.ForeignKey(Shelf, models.CASCADE, related_name="git_links")
    name = models.CharField(max_length=60)
    address = models.CharField(max_length=1000)
    user = models.CharField(max_length=150, blank=True)
    token = models.BinaryField(null=True)
    key = models.BinaryField(null=True)
    known_hosts = models.TextField(blank=True)
    way = models.CharField(max_length=5, default="both")
    branches = models.JSONField(default=list)
    tags = models.BooleanField(default=True)
    follows = models.BooleanField(default=False)
    every_seconds = models.PositiveIntegerField(default=600)
    made_by = models.ForeignKey(User, models.PROTECT, related_name="+")
    created = models.DateTimeField()
    state = models.CharField(max_length=10, default="new")
    problem = models.JSONField(default=dict)
    since = models.DateTimeField(null=True)
    looked = models.DateTimeField(null=True)
    next_look = models.DateTimeField(null=True)
    tries = models.PositiveIntegerField(default=0)
    lines = models.JSONField(default=list)
    seen_commit = models.PositiveBigIntegerField(default=0)
    folder = models.CharField(max_length=4000, blank=True)
    place = models.CharField(max_length=4000, blank=True)
    side = models.ForeignKey(Shelf, models.SET_NULL, null=True, related_name="+")
    calls = models.BinaryField(null=True)
    parts = models.CharField(max_length=10, blank=True)
    as_is_until = models.PositiveBigIntegerField(default=0)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["shelf", "name"], name="one_git_link_per_name"),
            models.CheckConstraint(condition=Q(parts__in=["", "beside", "instead"]), name="known_parts_of_link"),
            models.CheckConstraint(condition=Q(way__in=["send", "fetch", "both"]), name="known_way_of_link"),
        ]


class GitTransfer(models.Model):
    """A commit that went over a link."""

    link = models.ForeignKey(GitLink, models.CASCADE, related_name="transfers")
    fetched = models.BooleanField()
    commit = models.ForeignKey(Commit, models.CASCADE, related_name="+")
    git = models.CharField(max_length=40)
    branch = models.CharField(max_length=255)
    at = models.DateTimeField()


class SideCommit(models.Model):
    """That a commit of the shelf and one of a link's side stand for each other; null: for nothing."""

    link = models.ForeignKey(GitLink, models.CASCADE, related_name="side_commits")
    commit = models.ForeignKey(Commit, models.CASCADE, null=True, related_name="side_commits")
    side = models.ForeignKey(Commit, models.CASCADE, null=True, related_name="+")

    class Meta:
        indexes = [models.Index(fields=["link", "commit"]), models.Index(fields=["link", "side"])]


class SideState(models.Model):
    """What a commit of a side says once the parts of its files are folded: ``plain``, a folder node. ``parts``: how
    they are laid out in it. ``apart``: by path, files that do not say what their parts say; an empty text where they
    are to be brought level, else why they cannot be."""

    side = models.OneToOneField(Commit, models.CASCADE, related_name="+")
    plain = models.CharField(max_length=64)
    parts = models.CharField(max_length=10, blank=True)
    apart = models.JSONField(default=dict)


class UnfoldedContent(models.Model):
    """That a file of this name and content and the folder node ``parts`` say the same; ``parts`` is empty for a file
    that hides none. ``made``: the parts are what unfolding gave, not what came from Git."""

    name = models.CharField(max_length=255)
    content = models.CharField(max_length=64)
    parts = models.CharField(max_length=64, blank=True)
    made = models.BooleanField()
    notes = models.JSONField(default=list)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["name", "content", "parts", "made"], name="one_unfolded_content")
        ]
        indexes = [models.Index(fields=["name", "parts"])]
