"""What administrators see of locations, and sharing one on purpose."""

from __future__ import annotations

from typing import Any

from django.utils import timezone

from everyshelf.core.errors import MissingError
from everyshelf.service.base.acts import one_act
from everyshelf.service.claims.actions.steps import Steps, ground
from everyshelf.service.claims.models import Claim, SharedLocation
from everyshelf.service.log.actions import note
from everyshelf.service.people.accounts import require_admin
from everyshelf.service.rights import Caller, missing_shelf
from everyshelf.service.shelves.models import Shelf


def list_locations(caller: Caller) -> list[dict[str, Any]]:
    """Every location in use, with the shelf that it belongs to and those it is shared with; by address."""
    require_admin(caller)
    shared: dict[Steps, list[str]] = {}
    for row in SharedLocation.objects.select_related("shelf").order_by("pk"):
        shared.setdefault(tuple(row.steps), []).append(row.shelf.key)
    found: dict[tuple[str, str, str], dict[str, Any]] = {}
    for claim in Claim.objects.select_related("shelf").order_by("address", "pk"):
        steps = ground(tuple(claim.steps))
        told = found.setdefault(
            (claim.shelf.key, claim.use, claim.address),
            {
                "address": claim.address,
                "use": claim.use,
                "shelf": claim.shelf.key,
                "taken": claim.taken,
                "taken_by": claim.taken_by,
                "shared_with": [],
            },
        )
        above = (steps[:length] for length in range(1, len(steps) + 1))
        told["shared_with"] = sorted({*told["shared_with"], *(key for one in above for key in shared.get(one, []))})
    return list(found.values())


def share(caller: Caller, address: str, key: str) -> list[dict[str, Any]]:
    """Let one more shelf use a location that another one has, for links and data in place."""
    require_admin(caller)
    steps, shelf = _claimed(address), _shelf(key)
    with one_act():
        if not any(tuple(row.steps) == steps for row in SharedLocation.objects.filter(shelf=shelf)):
            SharedLocation.objects.create(
                steps=list(steps), address=address, shelf=shelf, by=caller.person.username, time=timezone.now()
            )
            note(caller, "location.shared", address, shelf)
    return list_locations(caller)


def unshare(caller: Caller, address: str, key: str) -> list[dict[str, Any]]:
    """Share a location no more. What the shelf has there already stays known, and is refused when it is used next."""
    require_admin(caller)
    steps, shelf = _claimed(address), _shelf(key)
    with one_act():
        rows = [row for row in SharedLocation.objects.filter(shelf=shelf) if tuple(row.steps) == steps]
        if not rows:
            raise MissingError(f"{address} is not shared with {key}", code="location.missing", hint=_LIST)
        for row in rows:
            row.delete()
        note(caller, "location.unshared", address, shelf)
    return list_locations(caller)


_LIST = "List them: everyshelf admin locations"


def _claimed(address: str) -> Steps:
    claim = Claim.objects.filter(address=address).exclude(use="environment").first()
    if claim is None:
        raise MissingError(
            f"no shelf has a link to {address}, or data in place there", code="location.missing", hint=_LIST
        )
    return ground(tuple(claim.steps))


def _shelf(key: str) -> Shelf:
    found = Shelf.objects.filter(key=key).first()
    if found is None:
        raise missing_shelf(key)
    return found
