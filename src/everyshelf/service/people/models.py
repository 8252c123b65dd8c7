"""Tokens and memberships; people themselves are Django's users."""

from __future__ import annotations

from django.contrib.auth.models import User
from django.db import models


class Role(models.TextChoices):
    """Roles on a shelf, weakest first; what they may do stands in ``rights``."""

    READER = "reader"
    AUTHOR = "author"
    KEEPER = "keeper"
    OWNER = "owner"


class Membership(models.Model):
    """A person's role on a shelf."""

    shelf = models.ForeignKey("shelves.Shelf", models.CASCADE, related_name="members")
    person = models.ForeignKey(User, models.CASCADE, related_name="memberships")
    role = models.CharField(max_length=10, choices=Role.choices)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["shelf", "person"], name="one_role_per_shelf")]


class Token(models.Model):
    """A personal token: only its SHA-256 is kept, so it is shown once. One that was made by another token ends with
    that one."""

    person = models.ForeignKey(User, models.CASCADE, related_name="tokens")
    name = models.CharField(max_length=100)
    digest = models.CharField(max_length=64, unique=True)
    beginning = models.CharField(max_length=12)
    scopes = models.JSONField(default=list)
    created = models.DateTimeField()
    expires = models.DateTimeField(null=True)
    last_used = models.DateTimeField(null=True)
    made_by = models.ForeignKey("self", models.CASCADE, null=True, related_name="made")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["person", "name"], name="one_token_per_name")]


class Invitation(models.Model):
    """A role on a shelf for whoever holds the secret; only its SHA-256 is kept. ``note`` says whom it is for."""

    uid = models.CharField(max_length=12, unique=True)
    shelf = models.ForeignKey("shelves.Shelf", models.CASCADE, related_name="invitations")
    role = models.CharField(max_length=10, choices=Role.choices)
    note = models.CharField(max_length=150, blank=True)
    digest = models.CharField(max_length=64, unique=True)
    created = models.DateTimeField()
    created_by = models.ForeignKey(User, models.CASCADE, related_name="+")
    expires = models.DateTimeField()
    accepted = models.DateTimeField(null=True)
    accepted_by = models.ForeignKey(User, models.CASCADE, null=True, related_name="+")
    withdrawn = models.BooleanField(default=False)


class FailedTry(models.Model):
    """A sign-in that failed in the last minute; ``bucket`` is the SHA-256 of what it is counted for, ``at`` a time in
    seconds since 1970."""

    bucket = models.CharField(max_length=64)
    at = models.FloatField()

    class Meta:
        indexes = [models.Index(fields=["bucket", "at"]), models.Index(fields=["at"])]


class KnownAddress(models.Model):
    """A person signed in from an address before; ``bucket`` is the SHA-256 of both."""

    bucket = models.CharField(max_length=64, unique=True)
