"""Records of tidying."""

from __future__ import annotations

from django.db import models


class Tidied(models.Model):
    """How far tidying has come: the one row. ``version``: key of the last version looked at; ``saved``: bytes that
    deltas have saved since the first run; ``looked``: when it was last looked for what nothing reaches."""

    version = models.BigIntegerField(default=0)
    saved = models.BigIntegerField(default=0)
    done = models.DateTimeField(null=True)
    looked = models.DateTimeField(null=True)
