"""Environments, what they are bound to, and what was put into them."""

from __future__ import annotations

from django.contrib.auth.models import User
from django.db import models
from django.db.models import Q


class Environment(models.Model):
    """A place artifacts are promoted to; ``position`` is its place along the route, from 1.

    ``address`` is the folder, the address of a platform's space, and so on by ``destination``. ``access`` is its token,
    sealed. ``gates``: ``{"guarded", "reviews", "checks", "quiet", "drift"}``. ``left_out``: ``{"patterns", "kinds"}``.
    ``subfolder`` is the folder of the shelf that is deployed; empty: all of it. ``records``: of a database, patterns of
    the tables whose records are versioned too.
    ``trial_of`` and ``expires`` are set for a trial environment; ``ended`` once it has removed itself.
    """

    shelf = models.ForeignKey("shelves.Shelf", models.CASCADE, related_name="environments")
    name = models.CharField(max_length=60)
    route = models.CharField(max_length=60, default="main")
    position = models.PositiveSmallIntegerField()
    destination = models.CharField(max_length=20, default="folder")
    address = models.CharField(max_length=1000)
    access = models.BinaryField(null=True)
    subfolder = models.CharField(max_length=500, blank=True)
    records = models.JSONField(default=list)
    fed_from = models.CharField(max_length=120, blank=True)
    earlier_first = models.BooleanField(default=False)
    gates = models.JSONField(default=dict)
    left_out = models.JSONField(default=dict)
    note = models.CharField(max_length=300, blank=True)
    created = models.DateTimeField()
    trial_of = models.ForeignKey("shelves.Tag", models.PROTECT, null=True, related_name="+")
    made_by = models.CharField(max_length=150, blank=True)
    expires = models.DateTimeField(null=True)
    ended = models.DateTimeField(null=True)
    watch_minutes = models.PositiveIntegerField(default=0)
    drift = models.JSONField(default=list)
    drift_checked = models.DateTimeField(null=True)
    drift_problem = models.CharField(max_length=500, blank=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["shelf", "name"], condition=Q(ended=None), name="one_environment_per_name"),
            models.UniqueConstraint(
                fields=["shelf", "route", "position"], condition=Q(ended=None), name="one_environment_per_place"
            ),
            models.UniqueConstraint(fields=["address"], condition=Q(ended=None), name="one_environment_per_address"),
        ]


class BindingValue(models.Model):
    """A value of a binding; append-only, the newest of a name counts. Of a secret one the value is sealed, and
    ``digest`` is a keyed digest that tells whether two are the same."""

    environment = models.ForeignKey(Environment, models.CASCADE, related_name="binding_values")
    name = models.CharField(max_length=60)
    secret = models.BooleanField(default=False)
    value = models.TextField(blank=True)
    sealed = models.BinaryField(null=True)
    digest = models.CharField(max_length=64, blank=True)
    removed = models.BooleanField(default=False)
    set_by = models.CharField(max_length=150)
    set_at = models.DateTimeField()

    class Meta:
        indexes = [models.Index(fields=["environment", "name", "-id"])]
        constraints = [
            models.CheckConstraint(condition=Q(secret=False) | Q(value=""), name="a_secret_is_never_kept_plain")
        ]


class Review(models.Model):
    """What somebody says about a commit going into an environment; the newest of a person counts."""

    environment = models.ForeignKey(Environment, models.CASCADE, related_name="reviews")
    commit = models.ForeignKey("shelves.Commit", models.CASCADE, related_name="+")
    person = models.ForeignKey(User, models.PROTECT, related_name="+")
    agrees = models.BooleanField()
    comment = models.TextField(blank=True)
    given = models.DateTimeField()

    class Meta:
        indexes = [models.Index(fields=["environment", "commit", "-id"])]


class Phase(models.TextChoices):
    """The journal of a promotion: each phase is written before the next begins."""

    PLANNED = "planned"
    STAGED = "staged"
    SWITCHING = "switching"
    SWITCHED = "switched"
    VERIFIED = "verified"
    RECORDED = "recorded"
    UNDONE = "undone"


class Deployment(models.Model):
    """One promotion; append-only.

    ``root`` is set where a draft was put into a trial environment. ``manifest`` is a content id: path -> source, size
    and what lies there. ``forced``: the gates that held and were overruled. ``lose``: names of what may be lost there.
    ``steps``: what was done there beyond artifacts. ``side_effects``: paths the destination changed
    by itself. ``unverified``: paths that did not read back as they were put there.
    """

    environment = models.ForeignKey(Environment, models.CASCADE, related_name="deployments")
    key = models.CharField(max_length=32, unique=True)
    number = models.PositiveIntegerField()
    tag = models.ForeignKey("shelves.Tag", models.PROTECT, related_name="deployments")
    commit = models.ForeignKey("shelves.Commit", models.PROTECT, related_name="+")
    manifest = models.CharField(max_length=64, blank=True)
    previous = models.ForeignKey("self", models.PROTECT, null=True, related_name="+")
    root = models.CharField(max_length=64, blank=True)
    rolled_back_to = models.ForeignKey("self", models.PROTECT, null=True, related_name="+")
    state = models.CharField(max_length=10, choices=Phase.choices, default=Phase.PLANNED)
    who = models.CharField(max_length=150)
    reason = models.TextField(blank=True)
    forced = models.JSONField(default=list)
    overwrite_drift = models.BooleanField(default=False)
    lose = models.JSONField(default=list)
    steps = models.JSONField(default=list)
    side_effects = models.JSONField(default=list)
    unverified = models.JSONField(default=list)
    counts = models.JSONField(default=dict)
    begun = models.DateTimeField()
    ended = models.DateTimeField(null=True)
    took_seconds = models.FloatField(null=True)
    request_key = models.CharField(max_length=100, blank=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["environment", "number"], name="one_deployment_per_number")]
        indexes = [models.Index(fields=["environment", "-id"])]
