"""Inviting people to a shelf: whoever holds the secret of an invitation gets its role, once."""

from __future__ import annotations

import secrets
import uuid
from datetime import timedelta
from typing import Any

from django.contrib.auth.models import User
from django.utils import timezone

from everyshelf.core.errors import ConflictError, InvalidError, MissingError
from everyshelf.service.base.acts import one_act
from everyshelf.service.log.actions import note
from everyshelf.service.people.actions import check_role, create_person, digest_of, give_role
from everyshelf.service.people.models import Invitation, Membership, Role
from everyshelf.service.rights import Caller, may, require

_PREFIX = "join_"
MAX_DAYS = 60


def invite(caller: Caller, shelf: Any, role: str, whom: str, days: int) -> tuple[Invitation, str]:
    """A new invitation and its secret, which is never shown again."""
    require(caller, shelf, "change members")
    check_role(role)
    if not 0 < days <= MAX_DAYS:
        raise InvalidError(f"an invitation lasts 1 to {MAX_DAYS} days, not {days}", code="invitation.days")
    value = _PREFIX + secrets.token_urlsafe(32)
    now = timezone.now()
    with one_act():
        made = Invitation.objects.create(
            uid=uuid.uuid4().hex[:12],
            shelf=shelf,
            role=role,
            note=whom[:150],
            digest=digest_of(value),
            created=now,
            created_by=caller.person,
            expires=now + timedelta(days=days),
        )
        note(caller, "invitation.made", whom or f"someone as {role}", shelf, role=role, days=days)
    return made, value


def list_invitations(caller: Caller, shelf: Any) -> list[Invitation]:
    """Invitations of a shelf, newest first: for those who may invite."""
    require(caller, shelf, "change members")
    return list(shelf.invitations.select_related("created_by", "accepted_by").order_by("-pk")[:200])


def withdraw(caller: Caller, shelf: Any, uid: str) -> None:
    """Make an invitation worthless at once."""
    require(caller, shelf, "change members")
    with one_act():
        found = shelf.invitations.filter(uid=uid).first()
        if found is None:
            raise MissingError(
                f"there is no invitation {uid[:20]!r} here",
                code="invitation.missing",
                hint="List them: everyshelf member invitations",
            )
        if found.accepted is not None:
            raise ConflictError(
                f"{found.accepted_by.username} took it up already",
                code="invitation.accepted",
                hint="Take their role away instead: everyshelf member remove",
            )
        found.withdrawn = True
        found.save(update_fields=["withdrawn"])
        note(caller, "invitation.withdrawn", found.note or found.role, shelf)


def find_invitation(value: str) -> Invitation:
    """The invitation behind a secret, if it can still be taken up; else ``MissingError`` that says why not."""
    found = Invitation.objects.select_related("shelf", "created_by").filter(digest=digest_of(value)).first()
    if found is None or found.withdrawn or not _maker_may_still(found):
        raise MissingError(
            "this invitation is not known here, or was withdrawn",
            code="invitation.missing",
            hint="Ask whoever sent it for a new one.",
        )
    if found.accepted is not None:
        raise MissingError("this invitation was taken up already", code="invitation.used", hint="Sign in instead.")
    if found.expires <= timezone.now():
        raise MissingError(
            f"this invitation ended on {found.expires:%Y-%m-%d}",
            code="invitation.expired",
            hint="Ask whoever sent it for a new one.",
        )
    return found


def _maker_may_still(invitation: Invitation) -> bool:
    """An invitation is worth what its maker's right is worth: who may not invite any more has invited nobody."""
    maker = invitation.created_by
    return maker.is_active and may(Caller(maker), invitation.shelf, "change members")


def accept(value: str, person: User | None, name: str = "", full_name: str = "", password: str = "") -> Invitation:
    """Take an invitation up, for ``person`` or somebody new; a stronger role that is held already stays."""
    with one_act():
        found = find_invitation(value)
        joined = person or create_person(name, full_name, password)
        held = Membership.objects.filter(shelf=found.shelf, person=joined).values_list("role", flat=True).first()
        if held is None or Role.values.index(held) < Role.values.index(found.role):
            give_role(found.shelf, joined, found.role)
        found.accepted, found.accepted_by = timezone.now(), joined
        found.save(update_fields=["accepted", "accepted_by"])
        note(Caller(joined), "invitation.accepted", found.role, found.shelf, invited_by=found.created_by.username)
    return found
