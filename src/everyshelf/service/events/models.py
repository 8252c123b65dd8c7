"""Records of webhooks. They tell what the log holds: nothing that was not done, and all that was."""

from __future__ import annotations

from django.contrib.auth.models import User
from django.db import models
from django.db.models import Q

from everyshelf.service.shelves.models import Shelf


class Webhook(models.Model):
    """An address that hears of what happens on a shelf. ``about``: acts, or things acts are about; empty: all.
    ``secret`` is sealed. ``address`` is what may be shown of it; ``sealed_address`` all of it, where that is more.
    ``seen``: the last entry of the log that was looked at. ``stopped``: why nothing is delivered
    any more."""

    shelf = models.ForeignKey(Shelf, models.CASCADE, related_name="webhooks")
    name = models.CharField(max_length=60)
    address = models.CharField(max_length=1000)
    sealed_address = models.BinaryField(null=True)
    about = models.JSONField(default=list)
    secret = models.BinaryField()
    made_by = models.ForeignKey(User, models.PROTECT, related_name="+")
    created = models.DateTimeField()
    seen = models.PositiveBigIntegerField(default=0)
    stopped = models.CharField(max_length=300, blank=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["shelf", "name"], name="one_webhook_per_name")]


class Delivery(models.Model):
    """An event on its way to a webhook. ``body`` is what is sent, byte for byte the same at each try."""

    webhook = models.ForeignKey(Webhook, models.CASCADE, related_name="deliveries")
    event = models.CharField(max_length=40)
    type = models.CharField(max_length=60)
    subject = models.CharField(max_length=500, blank=True)
    body = models.TextField()
    state = models.CharField(max_length=10, default="waiting")
    tries = models.PositiveIntegerField(default=0)
    next_try = models.DateTimeField(null=True)
    created = models.DateTimeField()
    ended = models.DateTimeField(null=True)
    status = models.PositiveIntegerField(null=True)
    why = models.CharField(max_length=300, blank=True)
    took_ms = models.PositiveIntegerField(null=True)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["webhook", "event"], name="one_delivery_per_event"),
            models.CheckConstraint(condition=Q(state__in=["waiting", "done", "failed"]), name="known_delivery_state"),
        ]
        indexes = [models.Index(fields=["state", "next_try"]), models.Index(fields=["webhook", "-id"])]
