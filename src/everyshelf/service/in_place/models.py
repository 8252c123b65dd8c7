"""Records of data in place; which contents lie outside is recorded with the contents of shelves."""

from __future__ import annotations

from django.db import models

from everyshelf.service.shelves.models import Shelf


class InPlaceKeys(models.Model):
    """Credentials of a shelf for one place: a bucket or a server, as ``places.place_of`` names it. ``sealed``: the
    secret."""

    shelf = models.ForeignKey(Shelf, models.CASCADE, related_name="+")
    place = models.CharField(max_length=500)
    key_id = models.CharField(max_length=200, blank=True)
    sealed = models.BinaryField()
    set_by = models.CharField(max_length=150)
    time = models.DateTimeField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["shelf", "place"], name="in_place_keys_once")]
