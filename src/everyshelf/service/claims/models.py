"""Records of which shelf took which location, and with which others an administrator shares it."""

from __future__ import annotations

from django.db import models
from django.db.models import Q

from everyshelf.service.shelves.models import Shelf

USES = ("environment", "link", "in place")


class Claim(models.Model):
    """A location that a shelf took. ``use`` and ``holder``: what for, and the number of that record (0: the shelf as a
    whole). ``steps``: what the address means, from the outside in; ``address``: as people see it."""

    shelf = models.ForeignKey(Shelf, models.CASCADE, related_name="claims")
    use = models.CharField(max_length=12)
    holder = models.PositiveBigIntegerField(default=0)
    address = models.CharField(max_length=2000)
    steps = models.JSONField()
    taken = models.DateTimeField()
    taken_by = models.CharField(max_length=150)

    class Meta:
        constraints = [models.CheckConstraint(condition=Q(use__in=USES), name="known_use_of_claim")]
        indexes = [models.Index(fields=["use", "holder"])]


class SharedLocation(models.Model):
    """That one more shelf may use a location, and everything below it."""

    steps = models.JSONField()
    address = models.CharField(max_length=2000)
    shelf = models.ForeignKey(Shelf, models.CASCADE, related_name="+")
    by = models.CharField(max_length=150)
    time = models.DateTimeField()
