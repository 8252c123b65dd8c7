"""Records of uses: what each version names, and the keys by which it is found. They are made again where lost.

The words of what names anything lie in ``uses_words``, a full-text table of SQLite without contents of its own, whose
row numbers are those of ``NamesRead``.
"""

from __future__ import annotations

from django.db import models

from everyshelf.service.shelves.models import ArtifactVersion, Shelf


class NamesRead(models.Model):
    """What a version names and offers, packed; ``reader``: the version of the readers that said so."""

    version = models.OneToOneField(ArtifactVersion, models.CASCADE, related_name="names_read")
    shelf = models.ForeignKey(Shelf, models.CASCADE, related_name="+")
    reader = models.CharField(max_length=64)
    found = models.BinaryField()


class NamedKey(models.Model):
    """A key under which a version names what it reads or makes, or offers itself to others.

    Of a file name also all that was written, tidied (``name``), and the path this is ``beside`` the artifact: by them
    those that mean another file of the same name are passed over unread. Both are empty for all other keys, and where
    they are longer than what is kept.
    """

    class Role(models.IntegerChoices):
        """What the version has to do with the key."""

        READS = 0
        WRITES = 1
        OFFERS = 2

    read = models.ForeignKey(NamesRead, models.CASCADE, related_name="keys")
    shelf = models.ForeignKey(Shelf, models.CASCADE, related_name="+")
    key = models.CharField(max_length=300)
    name = models.CharField(max_length=300, default="", blank=True)
    beside = models.CharField(max_length=300, default="", blank=True)
    role = models.PositiveSmallIntegerField(choices=Role.choices)

    class Meta:
        # With the names: what a key may mean is told from the index alone.
        indexes = [models.Index(fields=["key", "role", "shelf", "name", "beside"])]


class StateRead(models.Model):
    """That everything in a state was looked through, but for the paths in ``unread``, which could not be."""

    shelf = models.ForeignKey(Shelf, models.CASCADE, related_name="+")
    root = models.CharField(max_length=64)
    reader = models.CharField(max_length=64)
    unread = models.JSONField(default=list)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["shelf", "root"], name="one_reading_per_state")]
