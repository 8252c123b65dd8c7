"""Records of findings. They are made again where lost."""

from __future__ import annotations

from django.db import models

from everyshelf.service.shelves.models import ArtifactVersion


class VersionFindings(models.Model):
    """What a version changed against the one it was made from, packed; ``reader``: the readers that said so."""

    version = models.OneToOneField(ArtifactVersion, models.CASCADE, related_name="findings_kept")
    reader = models.CharField(max_length=64)
    found = models.BinaryField()
