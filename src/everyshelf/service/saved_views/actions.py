"""Saving, listing and removing views."""

from __future__ import annotations

import re

from django.db.models import Q
from django.utils import timezone

from everyshelf.core.answers.saved_views import SavedViewAnswer
from everyshelf.core.errors import InvalidError, MissingError
from everyshelf.core.history.names import did_you_mean, nearest
from everyshelf.service.base.acts import one_act
from everyshelf.service.rights import Caller, require
from everyshelf.service.saved_views.models import SavedView
from everyshelf.service.shelves.models import Shelf

_MOST = 200  # of one person's on one shelf
# Below the shelf only: what others open from a list must not lead elsewhere.
_ADDRESS = re.compile(r"(?:/[A-Za-z0-9._~%-]+)*(?:\?[^\s#\\\x00-\x1f]*)?\Z")


def list_views(caller: Caller, shelf: Shelf) -> list[SavedViewAnswer]:
    """One's own, then those that others share, each in the order of their names."""
    rows = SavedView.objects.filter(shelf=shelf).filter(Q(person=caller.person) | Q(shared=True))
    known = [
        SavedViewAnswer(
            name=row.name,
            address=row.address,
            person=row.person.username,
            own=row.person_id == caller.person.pk,
            shared=row.shared,
            saved=row.saved,
        )
        for row in rows.select_related("person")
    ]
    return sorted(known, key=lambda view: (not view.own, view.name.casefold(), view.person))


def save_view(caller: Caller, shelf: Shelf, name: str, address: str, *, shared: bool) -> list[SavedViewAnswer]:
    """Save a view under a name of the caller's; one of that name is replaced."""
    require(caller, shelf, "share views" if shared else "save views")
    name = " ".join(name.split())
    if not name or any(ord(letter) < 32 for letter in name):
        raise InvalidError("a view needs a name", code="view.name", pointer="/name", hint="Name it in a few words.")
    if not _ADDRESS.match(address) or any(part in (".", "..") for part in address.partition("?")[0].split("/")):
        raise InvalidError(
            f"{address[:200]!r} is not the address of a page of a shelf",
            code="view.address",
            pointer="/address",
            hint="Give what follows /s/KEY in the console: /history?by=NAME.",
        )
    with one_act():
        own = SavedView.objects.filter(shelf=shelf, person=caller.person)
        if not own.filter(name=name).exists() and own.count() >= _MOST:
            raise InvalidError(
                f"you have {_MOST} views on {shelf.name}, and no more are kept",
                code="view.too_many",
                hint="Remove some: everyshelf view remove NAME",
            )
        SavedView.objects.update_or_create(
            shelf=shelf,
            person=caller.person,
            name=name,
            defaults={"address": address, "shared": shared, "saved": timezone.now()},
        )
    return list_views(caller, shelf)


def remove_view(caller: Caller, shelf: Shelf, name: str) -> list[SavedViewAnswer]:
    """Remove a view of the caller's."""
    require(caller, shelf, "save views")
    with one_act():
        own = SavedView.objects.filter(shelf=shelf, person=caller.person)
        if not own.filter(name=name).delete()[0]:
            names = list(own.values_list("name", flat=True))
            raise MissingError(
                f"you have no view {name!r} on {shelf.name}",
                code="view.missing",
                hint=f"{did_you_mean(nearest(name, names))}List them: everyshelf view list",
            )
    return list_views(caller, shelf)
