"""Taking a location for a shelf, and giving it back. None is equal to, above or below one of another shelf.

Else a shelf could read, overwrite or remove what another one keeps there, which its owner cannot see. It belongs to the
shelf that took it first; an administrator may share it on purpose (``sharing``).
"""

from __future__ import annotations

from collections.abc import Sequence

from django.utils import timezone

from everyshelf.core.errors import ConflictError
from everyshelf.service.base.config import get_config
from everyshelf.service.claims.actions.steps import Steps, file_steps, ground, is_branch, touches
from everyshelf.service.claims.models import Claim, SharedLocation
from everyshelf.service.shelves.models import Shelf


def take(shelf: Shelf, use: str, holder: int, address: str, wanted: Sequence[Steps], who: str) -> None:
    """Record that the shelf uses a location. Raises ``ConflictError`` (location.taken, of an environment
    environment.taken) if it is, is inside or contains one of another shelf, or its own that does not go together
    with it. Call it in the transaction that records what uses it."""
    require_free(shelf, use, address, wanted, holder=holder)
    if not Claim.objects.filter(shelf=shelf, use=use, holder=holder, address=address).exists():
        now = timezone.now()
        rows = [
            Claim(shelf=shelf, use=use, holder=holder, address=address, steps=list(one), taken=now, taken_by=who)
            for one in wanted
        ]
        Claim.objects.bulk_create(rows)


def give_back(use: str, holder: int) -> None:
    """Let others have what an environment or a link had."""
    Claim.objects.filter(use=use, holder=holder).delete()


def require_free(shelf: Shelf, use: str, address: str, wanted: Sequence[Steps], *, holder: int = 0) -> None:
    """Return if the shelf may take a location."""
    shared = [tuple(row) for row in SharedLocation.objects.filter(shelf=shelf).values_list("steps", flat=True)]
    claims = list(Claim.objects.order_by("pk").only("shelf_id", "use", "holder", "steps"))
    first = {one: _taken_first(shelf, use, one, claims) for one in wanted}
    for claim in claims:
        known = tuple(claim.steps)
        if holder and (claim.shelf_id, claim.use, claim.holder) == (shelf.pk, use, holder):
            continue
        if claim.shelf_id == shelf.pk:
            clash = any(_clash(use, one, claim.use, known) for one in wanted)
        else:
            mine = [one for one in wanted if (at := first[one]) is None or claim.pk < at]
            clash = any(touches(ground(one), ground(known)) for one in mine) and not (
                "environment" not in (use, claim.use) and any(ground(known)[: len(one)] == one for one in shared)
            )
        if clash:
            raise _taken(use, address)
    if any(touches(ground(one), other) for one in wanted for other in _folders_of_others(shelf)):
        raise _taken(use, address)


def _taken_first(shelf: Shelf, use: str, one: Steps, claims: list[Claim]) -> int | None:
    """The first claim of the shelf on a location: those of others came later, when it was shared with them."""
    if use == "environment":
        return None
    mine = (c for c in claims if c.shelf_id == shelf.pk and ground(tuple(c.steps)) == ground(one)[: len(c.steps)])
    return next((claim.pk for claim in mine), None)


def _clash(use: str, one: Steps, other_use: str, other: Steps) -> bool:
    """Whether one shelf cannot use both. Data in place is only read; links and environments may share a repository,
    environments in it not a branch."""
    if "in place" in (use, other_use) or use == other_use == "link":
        return False
    if ground(one) == ground(other) and (is_branch(one) or is_branch(other)):
        return is_branch(one) and is_branch(other) and touches(one, other)
    return touches(ground(one), ground(other))


def _folders_of_others(shelf: Shelf) -> list[Steps]:
    """The folder that each place has for each shelf, by its key."""
    keys = Shelf.objects.exclude(pk=shelf.pk).values_list("key", flat=True)
    return [file_steps(place.resolve() / key) for place in get_config().places for key in keys]


def taken_for(shelf: Shelf) -> list[Steps]:
    """What a new environment of the shelf may not touch: claims of anyone, and the folders of other shelves."""
    return [*(ground(tuple(row)) for row in Claim.objects.values_list("steps", flat=True)), *_folders_of_others(shelf)]


def _taken(use: str, address: str) -> ConflictError:
    return ConflictError(
        f"{address} is, is inside, or contains a location that is in use",
        code="environment.taken" if use == "environment" else "location.taken",
        pointer="/address",
        hint="Choose one of its own. An administrator can share one: everyshelf admin share-location",
    )
