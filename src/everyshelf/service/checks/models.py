"""Records of checks."""

from __future__ import annotations

from django.contrib.auth.models import User
from django.db import models

from everyshelf.service.shelves.models import Commit, Shelf


class Check(models.Model):
    """What somebody, or a program of theirs, found about a commit. A later one of the same name takes its place."""

    shelf = models.ForeignKey(Shelf, models.CASCADE, related_name="checks")
    commit = models.ForeignKey(Commit, models.CASCADE, related_name="checks")
    name = models.CharField(max_length=100)
    passed = models.BooleanField()
    comment = models.CharField(max_length=500, blank=True)
    link = models.URLField(max_length=500, blank=True)
    made = models.DateTimeField()
    made_by = models.ForeignKey(User, models.PROTECT, related_name="+")

    class Meta:
        indexes = [models.Index(fields=["commit", "name", "-id"])]
