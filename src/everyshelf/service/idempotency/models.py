"""Records of answers."""

from __future__ import annotations

from django.db import models


class KeptAnswer(models.Model):
    """The answer given to a write that carried an idempotency key.

    ``owner`` is the person's record number, or empty for a call nobody signed in for. ``request`` is a digest of
    method, address and body. ``answer`` is compressed and sealed: it may hold a token's value, which is kept nowhere
    else.
    """

    owner = models.CharField(max_length=20)
    key = models.CharField(max_length=100)
    request = models.CharField(max_length=64)
    status = models.PositiveSmallIntegerField()
    answer = models.BinaryField()
    made = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["owner", "key"], name="one_answer_per_owner_and_key")]
        indexes = [models.Index(fields=["made"])]
