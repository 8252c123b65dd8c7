"""Making, listing and describing shelves."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any

from django.db import IntegrityError
from django.db.models import Count, Q, QuerySet
from django.utils import timezone

from everyshelf.core.content.stores import MAIN, checked_name, told_name
from everyshelf.core.errors import ConflictError, InvalidError, MissingError
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.context import get_place, get_store
from everyshelf.service.base.unchanged import while_unchanged
from everyshelf.service.log.actions import note
from everyshelf.service.people.models import Membership, Role
from everyshelf.service.rights import Caller, missing_shelf, require, require_scope, roles_on
from everyshelf.service.shelves.models import Branch, Shelf

_KEY = re.compile(r"[a-z0-9]+(-[a-z0-9]+)*\Z")
_NUMBERS: Mapping[str, dict[str, Any]] = {
    "branches": {},
    "tags": {},
    "commits": {},
    "environments": {"ended": None},
    "proposals": {"state": "open"},
    "experiments": {"state": "open"},
}


def visible_shelves(caller: Caller) -> QuerySet[Shelf]:
    """The shelves the caller may see, by name."""
    require_scope(caller, "read")
    mine = Membership.objects.filter(person=caller.person).values("shelf")
    return Shelf.objects.filter(Q(open_to_all=True) | Q(pk__in=mine)).order_by("name")


def get_shelf(caller: Caller, key: str, right: str = "see") -> Shelf:
    """The shelf, if the caller has the right on it; missing and invisible are told alike."""
    shelf = while_unchanged(("shelf", key), lambda: Shelf.objects.filter(key=key).first())
    try:
        if shelf is None:
            raise missing_shelf(key)
        require(caller, shelf, right)
    except MissingError:
        readable = caller.scopes is None or "read" in caller.scopes
        seen = visible_shelves(caller).values_list("key", flat=True) if readable else ()
        raise missing_shelf(key, seen) from None
    return shelf


def store_of_shelf(key: str) -> str:
    """The store in which the bytes of a shelf live; of one that is not there the main store."""
    found = while_unchanged(
        ("store", key), lambda: Shelf.objects.filter(key=key).values_list("store", flat=True).first()
    )
    return found or MAIN


def store_names() -> list[str]:
    """The stores of this installation, the main one first: those that were made here, and those whose segments a
    backup brought."""
    return sorted({*get_place().home().names, *get_store().segments.stores()})


def known_store(name: str) -> str:
    """The store of that name; raises ``InvalidError``, ``MissingError``."""
    store, known = checked_name(name), store_names()
    if store not in known:
        raise MissingError(
            f"this installation has no store {name!r}",
            code="storage.no_store",
            hint=f"Choose among {', '.join(map(told_name, known))}, or have an administrator make one: "
            f"everyshelf storage make {name} PLACE",
        )
    return store


def make_shelf(
    caller: Caller, name: str, description: str, key: str | None, open_to_all: bool, store: str = MAIN
) -> Shelf:
    """A shelf with its main branch, usable at once; the caller owns it. ``store``: where its bytes live."""
    require_scope(caller, "write")
    store = known_store(store)
    key = key or re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")
    if not _KEY.match(key) or len(key) > 60:
        raise InvalidError(
            f"{key!r} cannot be the key of a shelf",
            code="shelf.key",
            pointer="/key",
            hint="Use lower-case letters, digits and single dashes, up to 60.",
        )
    now = timezone.now()
    try:
        with one_act():
            shelf = Shelf.objects.create(
                key=key, name=name, description=description, open_to_all=open_to_all, store=store, created=now
            )
            Branch.objects.create(shelf=shelf, name="main", created=now, created_by=caller.person.username)
            Membership.objects.create(shelf=shelf, person=caller.person, role=Role.OWNER)
            note(caller, "shelf.made", name, shelf)
    except IntegrityError as error:
        raise ConflictError(
            f"the key {key!r} is taken", code="shelf.taken", hint="Choose another with --key."
        ) from error
    return shelf


def change_shelf(
    caller: Caller,
    shelf: Shelf,
    name: str | None = None,
    description: str | None = None,
    open_to_all: bool | None = None,
) -> Shelf:
    """Change what a shelf is called, what is said about it, and whether all signed-in people may see it."""
    require(caller, shelf, "change the shelf")
    wanted = {"name": name, "description": description, "open_to_all": open_to_all}
    changed = {k: v for k, v in wanted.items() if v is not None and getattr(shelf, k) != v}
    for field, value in changed.items():
        setattr(shelf, field, value)
    with one_act():
        if changed:
            shelf.save(update_fields=list(changed))
            note(caller, "shelf.changed", shelf.name, shelf, **changed)
    return shelf


def describe_shelf(caller: Caller, shelf: Shelf) -> dict[str, Any]:
    """The shelf in numbers: branches, tags, commits, environments, what is open; the caller's role."""
    return describe_shelves(caller, [shelf])[0]


def describe_shelves(caller: Caller, shelves: Sequence[Shelf]) -> list[dict[str, Any]]:
    """Shelves in numbers, with as many queries for a thousand as for one."""
    roles = roles_on(caller, shelves)
    numbers = {what: _counted(shelves, what, **only) for what, only in _NUMBERS.items()}
    return [
        {**_shelf_json(one), "role": roles[one.pk], **{what: found[one.pk] for what, found in numbers.items()}}
        for one in shelves
    ]


def _counted(shelves: Sequence[Shelf], what: str, **only: Any) -> dict[int, int]:
    """How many of these things each shelf has."""
    wanted = Q(**{f"{what}__{field}": value for field, value in only.items()})
    rows = Shelf.objects.filter(pk__in=[one.pk for one in shelves]).values("pk")
    return dict(rows.annotate(number=Count(what, filter=wanted or None)).values_list("pk", "number"))


def _shelf_json(shelf: Shelf) -> dict[str, Any]:
    return {
        "key": shelf.key,
        "name": shelf.name,
        "description": shelf.description,
        "open_to_all": shelf.open_to_all,
        "main_branch": shelf.main_branch,
        "store": told_name(shelf.store),
        "created": shelf.created,
    }
