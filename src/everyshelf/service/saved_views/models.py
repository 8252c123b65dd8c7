"""Records of saved views."""

from __future__ import annotations

from django.contrib.auth.models import User
from django.db import models

from everyshelf.service.shelves.models import Shelf


class SavedView(models.Model):
    """A page of a shelf, with what it is narrowed to, under a name of one person's; shared ones are seen by all who see
    the shelf. ``address``: the console's path below the shelf with its query; empty for its first page."""

    shelf = models.ForeignKey(Shelf, models.CASCADE, related_name="+")
    person = models.ForeignKey(User, models.CASCADE, related_name="+")
    name = models.CharField(max_length=100)
    address = models.CharField(max_length=2000, blank=True)
    shared = models.BooleanField(default=False)
    saved = models.DateTimeField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["shelf", "person", "name"], name="view_name_of_a_person")]
