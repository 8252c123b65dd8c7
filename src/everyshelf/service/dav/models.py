"""Records of the network folder."""

from __future__ import annotations

from django.db import models

from everyshelf.service.drafts.models import Draft


class LockEntry(models.Model):
    """An entry of the table of locks, as WsgiDAV keeps it; several processes share it."""

    key = models.CharField(max_length=4200, unique=True)
    value = models.JSONField()


class EmptyFolder(models.Model):
    """A folder that was made in a draft: a shelf knows folders by what lies in them, and programs make them first."""

    draft = models.ForeignKey(Draft, models.CASCADE, related_name="+")
    path = models.CharField(max_length=1000)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["draft", "path"], name="one_empty_folder_per_path")]
