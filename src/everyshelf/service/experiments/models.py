"""Records of experiments."""

from __future__ import annotations

from django.contrib.auth.models import User
from django.db import models
from django.db.models import Q

from everyshelf.service.proposals.models import Proposal
from everyshelf.service.shelves.models import Commit, Shelf


class Experiment(models.Model):
    """A question, and the branch on which it is tried; runs may come from others, too.

    ``primary``: the metric that answers it. ``proposal``: the one that was opened to adopt it.
    """

    shelf = models.ForeignKey(Shelf, models.CASCADE, related_name="experiments")
    key = models.SlugField(max_length=60)
    question = models.CharField(max_length=300)
    branch = models.CharField(max_length=120)
    target = models.CharField(max_length=120)
    primary = models.CharField(max_length=200, blank=True)
    state = models.CharField(max_length=10, default="open")
    reason = models.TextField(blank=True)
    proposal = models.ForeignKey(Proposal, models.SET_NULL, null=True, related_name="+")
    runs_made = models.PositiveIntegerField(default=0)
    created = models.DateTimeField()
    created_by = models.ForeignKey(User, models.PROTECT, related_name="+")
    closed = models.DateTimeField(null=True)
    closed_by = models.ForeignKey(User, models.PROTECT, null=True, related_name="+")

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["shelf", "key"], name="one_experiment_per_key"),
            models.CheckConstraint(
                condition=Q(state__in=["open", "adopted", "abandoned"]), name="known_experiment_state"
            ),
        ]

    def __str__(self) -> str:
        return self.key


class Run(models.Model):
    """One run: what it read (at ``base``), what it was given and measured, and the commit that holds what it wrote.

    ``reads``: path -> ``{"artifact", "version", "content", "kind"}``. ``series``: the content that holds its courses,
    ``courses`` their names with how many points each has.
    """

    experiment = models.ForeignKey(Experiment, models.CASCADE, related_name="runs")
    number = models.PositiveIntegerField()
    branch = models.CharField(max_length=120)
    base = models.ForeignKey(Commit, models.PROTECT, related_name="+")
    commit = models.ForeignKey(Commit, models.PROTECT, related_name="+")
    reads = models.JSONField(default=dict)
    parameters = models.JSONField(default=dict)
    metrics = models.JSONField(default=dict)
    series = models.CharField(max_length=64, blank=True)
    courses = models.JSONField(default=dict)
    command = models.TextField(blank=True)
    state = models.CharField(max_length=10)
    exit_code = models.IntegerField(null=True)
    note = models.CharField(max_length=500, blank=True)
    began = models.DateTimeField()
    took_seconds = models.FloatField(null=True)
    person = models.ForeignKey(User, models.PROTECT, related_name="+")

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["experiment", "number"], name="one_run_per_number"),
            models.CheckConstraint(condition=Q(state__in=["done", "failed"]), name="known_run_state"),
        ]
