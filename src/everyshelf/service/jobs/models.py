"""The rows of jobs are the truth and the queue."""

from __future__ import annotations

from django.contrib.auth.models import User
from django.db import models
from django.utils import timezone


class State(models.TextChoices):
    """Where a job stands."""

    WAITING = "waiting"
    RUNNING = "running"
    DONE = "done"
    FAILED = "failed"
    CANCELLED = "cancelled"


class Job(models.Model):
    """Long work: what to do, how far it is, and how it ended. ``queued``: since when it waits."""

    uid = models.CharField(max_length=32, unique=True)
    kind = models.CharField(max_length=30)
    shelf = models.ForeignKey("shelves.Shelf", models.CASCADE, null=True, related_name="jobs")
    person = models.ForeignKey(User, models.CASCADE, related_name="+")
    parameters = models.JSONField(default=dict)
    state = models.CharField(max_length=10, choices=State.choices, default=State.WAITING)
    done = models.PositiveBigIntegerField(default=0)
    total = models.PositiveBigIntegerField(default=0)
    note = models.CharField(max_length=300, blank=True)
    result = models.JSONField(null=True)
    problem = models.JSONField(null=True)
    cancel_asked = models.BooleanField(default=False)
    attempts = models.PositiveSmallIntegerField(default=0)
    created = models.DateTimeField(auto_now_add=True)
    queued = models.DateTimeField(default=timezone.now)
    heartbeat = models.DateTimeField(null=True)
    ended = models.DateTimeField(null=True)

    class Meta:
        indexes = [models.Index(fields=["state"])]
