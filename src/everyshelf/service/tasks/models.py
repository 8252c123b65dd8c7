"""Records of tasks: how their ids are written, and which commits name them."""

from __future__ import annotations

from django.db import models

from everyshelf.service.shelves.models import Commit, Shelf


class TaskSettings(models.Model):
    """``pattern``: what the id of a task looks like in a text; ``address``: where it is kept, with ``{task}`` for the
    id. ``seen``: the newest commit that was read with ``read_with``; mentions are a cache that is made again."""

    shelf = models.OneToOneField(Shelf, models.CASCADE, related_name="task_settings")
    pattern = models.CharField(max_length=200, blank=True)
    address = models.CharField(max_length=500, blank=True)
    read_with = models.CharField(max_length=200, blank=True)
    seen = models.PositiveBigIntegerField(default=0)


class TaskMention(models.Model):
    """That a commit is for a task."""

    shelf = models.ForeignKey(Shelf, models.CASCADE, related_name="+")
    task = models.CharField(max_length=100)
    commit = models.ForeignKey(Commit, models.CASCADE, related_name="task_mentions")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["commit", "task"], name="one_mention_per_task_and_commit")]
        indexes = [models.Index(fields=["shelf", "task", "-commit"])]
