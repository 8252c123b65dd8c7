"""Records of the log. They are only ever added: the database itself refuses to change or remove one."""

from __future__ import annotations

from django.db import models


class LogEntry(models.Model):
    """That somebody did something. Names are kept as they were then, so that an entry outlives what it is about.

    ``via``: the token it was done with, empty for the console. ``shelf``: the key, empty for the installation.
    """

    time = models.DateTimeField()
    person = models.CharField(max_length=150)
    via = models.CharField(max_length=100, blank=True)
    shelf = models.CharField(max_length=60, blank=True)
    act = models.CharField(max_length=40)
    subject = models.CharField(max_length=500, blank=True)
    detail = models.JSONField(default=dict)

    class Meta:
        indexes = [
            models.Index(fields=["shelf", "-id"]),
            models.Index(fields=["shelf", "person", "-id"]),
            models.Index(fields=["person", "-id"]),
        ]
