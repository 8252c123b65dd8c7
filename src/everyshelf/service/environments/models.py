"""Environments and what was put into them."""

from __future__ import annotations

from django.db import models


class Environment(models.Model):
    """A place artifacts are promoted to; ``position`` is its place along the route, from 1."""

    shelf = models.ForeignKey("shelves.Shelf", models.CASCADE, related_name="environments")
    name = models.CharField(max_length=60)
    route = models.CharField(max_length=60, default="main")
    position = models.PositiveSmallIntegerField()
    destination = models.CharField(max_length=20, default="folder")
    folder = models.CharField(max_length=1000)
    fed_from = models.CharField(max_length=120, blank=True)
    earlier_first = models.BooleanField(default=False)
    note = models.CharField(max_length=300, blank=True)
    created = models.DateTimeField()

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["shelf", "name"], name="one_environment_per_name"),
            models.UniqueConstraint(fields=["shelf", "route", "position"], name="one_environment_per_place"),
            models.UniqueConstraint(fields=["folder"], name="one_environment_per_folder"),
        ]


class Phase(models.TextChoices):
    """The journal of a promotion: each phase is written before the next begins."""

    PLANNED = "planned"
    STAGED = "staged"
    SWITCHED = "switched"
    VERIFIED = "verified"
    RECORDED = "recorded"
    UNDONE = "undone"


class Deployment(models.Model):
    """One promotion; append-only. ``manifest`` is a content id: path -> content and size, as it was put there."""

    environment = models.ForeignKey(Environment, models.CASCADE, related_name="deployments")
    key = models.CharField(max_length=32, unique=True)
    number = models.PositiveIntegerField()
    tag = models.ForeignKey("shelves.Tag", models.PROTECT, related_name="deployments")
    commit = models.ForeignKey("shelves.Commit", models.PROTECT, related_name="+")
    manifest = models.CharField(max_length=64)
    previous = models.ForeignKey("self", models.PROTECT, null=True, related_name="+")
    rolled_back_to = models.ForeignKey("self", models.PROTECT, null=True, related_name="+")
    state = models.CharField(max_length=10, choices=Phase.choices, default=Phase.PLANNED)
    who = models.CharField(max_length=150)
    why = models.TextField(blank=True)
    counts = models.JSONField(default=dict)
    begun = models.DateTimeField()
    ended = models.DateTimeField(null=True)
    took_seconds = models.FloatField(null=True)
    request_key = models.CharField(max_length=100, blank=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["environment", "number"], name="one_deployment_per_number")]
        indexes = [models.Index(fields=["environment", "-id"])]
