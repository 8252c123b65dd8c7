"""Credentials for places: set, listed, removed. The secrets are sealed and never leave."""

from __future__ import annotations

from typing import Any

from django.utils import timezone

from everyshelf.core.errors import InvalidError, MissingError
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.keys import seal
from everyshelf.service.in_place.actions.places import checked_address, place_of
from everyshelf.service.in_place.models import InPlaceKeys
from everyshelf.service.log.actions import note
from everyshelf.service.rights import Caller, require
from everyshelf.service.shelves.models import Shelf

_RIGHT = "bring data in place"


def list_keys(caller: Caller, shelf: Shelf) -> list[dict[str, Any]]:
    """The places that the shelf has credentials for, without the secrets."""
    require(caller, shelf, _RIGHT)
    rows = InPlaceKeys.objects.filter(shelf=shelf).order_by("place")
    return [{"place": r.place, "key_id": r.key_id, "set_by": r.set_by, "time": r.time} for r in rows]


def set_keys(
    caller: Caller, shelf: Shelf, address: str, endpoint: str, key_id: str, secret: str
) -> list[dict[str, Any]]:
    """Set the credentials for the bucket or server of an address; those that it had are replaced."""
    require(caller, shelf, _RIGHT)
    address = checked_address(address, endpoint)
    place = place_of(address)
    if not place:
        raise InvalidError(
            f"{address} lies on this machine, which needs no credentials",
            code="in_place.keys",
            hint="Leave them out.",
        )
    if not secret or (address.startswith("s3://") and not key_id):
        raise InvalidError(
            f"the credentials for {place} are not whole",
            code="in_place.keys",
            hint="A bucket needs a key and its secret, a server a token.",
        )
    with one_act():
        InPlaceKeys.objects.update_or_create(
            shelf=shelf,
            place=place,
            defaults={
                "key_id": key_id,
                "sealed": seal(secret),
                "set_by": caller.person.username,
                "time": timezone.now(),
            },
        )
        note(caller, "in-place.keys", place, shelf)
    return list_keys(caller, shelf)


def remove_keys(caller: Caller, shelf: Shelf, place: str) -> list[dict[str, Any]]:
    """Remove the credentials for a place. Its data stays registered, and is not read until others are set."""
    require(caller, shelf, _RIGHT)
    with one_act():
        if not InPlaceKeys.objects.filter(shelf=shelf, place=place).delete()[0]:
            raise MissingError(
                f"the shelf has no credentials for {place[:200]!r}",
                code="in_place.no_keys",
                hint="List them: everyshelf in-place credentials",
            )
        note(caller, "in-place.keys_removed", place, shelf)
    return list_keys(caller, shelf)
