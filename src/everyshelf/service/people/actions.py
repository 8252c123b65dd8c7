"""Use cases: people, members, tokens."""

from __future__ import annotations

import hashlib
import re
import secrets
from datetime import timedelta
from typing import Any

from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.db import IntegrityError
from django.utils import timezone

from everyshelf.core.errors import ConflictError, InvalidError, MissingError, RefusedError
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.unchanged import while_unchanged
from everyshelf.service.log.actions import note
from everyshelf.service.people.models import Membership, Role, Token
from everyshelf.service.rights import SCOPES, Caller, require, require_scope

_NAME = re.compile(r"[a-z0-9][a-z0-9._-]{0,59}\Z")
_PREFIX = "es_"
MAX_DAYS = 3650


def add_person(caller: Caller, name: str, full_name: str, password: str) -> User:
    """A new person who can sign in; only the installation's first owner may."""
    if not caller.person.is_staff:
        raise RefusedError(
            "only who set up this installation may add people", code="rights.role", hint="Ask an administrator."
        )
    require_scope(caller, "admin")
    with one_act():
        made = create_person(name, full_name, password)
        note(caller, "person.added", name)
    return made


def create_person(name: str, full_name: str, password: str, *, staff: bool = False) -> User:
    """A new person; raises ``InvalidError`` for a name or password that will not do."""
    if not _NAME.match(name):
        raise InvalidError(
            f"{name!r} cannot be a sign-in name",
            code="people.name",
            pointer="/name",
            hint="Use lower-case letters, digits, dots and dashes.",
        )
    if User.objects.filter(username=name).exists():
        raise ConflictError(f"there is a person called {name} already", code="people.taken")
    try:
        validate_password(password, User(username=name, first_name=full_name[:150]))
    except ValidationError as error:
        raise InvalidError(" ".join(error.messages), code="people.password", pointer="/password") from error
    return User.objects.create_user(name, password=password, first_name=full_name[:150], is_staff=staff)


def list_members(shelf: Any) -> list[Membership]:
    """Who has a role on a shelf: owners first, then by name."""
    rank = {role: place for place, role in enumerate(reversed(Role.values))}
    rows = Membership.objects.filter(shelf=shelf).select_related("person")
    return sorted(rows, key=lambda m: (rank[m.role], m.person.username))


def set_member(caller: Caller, shelf: Any, name: str, role: str) -> Membership:
    """Give a person a role on a shelf."""
    require(caller, shelf, "change members")
    check_role(role)
    person = get_person(name)
    with one_act():
        membership = give_role(shelf, person, role)
        note(caller, "member.set", name, shelf, role=role)
    return membership


def give_role(shelf: Any, person: User, role: str) -> Membership:
    """The membership; raises ``InvalidError`` if that left the shelf without an owner. Call it in a transaction."""
    membership, _ = Membership.objects.update_or_create(shelf=shelf, person=person, defaults={"role": role})
    _keep_an_owner(shelf)
    return membership


def remove_member(caller: Caller, shelf: Any, name: str) -> None:
    """Take a person's role away. Owners may do it to anybody, and anybody to themselves."""
    require(caller, shelf, "see" if name == caller.person.username else "change members")
    require_scope(caller, "admin")
    with one_act():
        found = Membership.objects.filter(shelf=shelf, person__username=name).first()
        if found is None:
            raise MissingError(
                f"{name} has no role on {shelf.name}", code="people.no_member", hint="List: everyshelf member list"
            )
        found.delete()
        _keep_an_owner(shelf)
        note(caller, "member.removed", name, shelf, role=found.role)


def _keep_an_owner(shelf: Any) -> None:
    if not Membership.objects.filter(shelf=shelf, role=Role.OWNER).exists():
        raise InvalidError(
            "a shelf needs at least one owner", code="people.last_owner", hint="Make someone else an owner first."
        )


def get_person(name: str) -> User:
    """The person of that sign-in name."""
    person = User.objects.filter(username=name).first()
    if person is None:
        raise MissingError(
            f"there is no person called {name}", code="people.missing", hint="Invite them: everyshelf member invite"
        )
    return person


def check_role(role: str) -> str:
    """Return ``role`` if there is such a role."""
    if role not in Role.values:
        raise InvalidError(f"{role!r} is not a role", code="people.role", hint=f"Roles: {', '.join(Role.values)}.")
    return role


def digest_of(value: str) -> str:
    """What is kept of a token: it is 256 random bits, so one round of SHA-256 cannot be searched."""
    return hashlib.sha256(value.encode()).hexdigest()


def find_token(value: str) -> Token | None:
    """The token behind its secret value, or None."""
    digest = digest_of(value)
    return while_unchanged(
        ("token", digest), lambda: Token.objects.select_related("person").filter(digest=digest).first()
    )


def make_token(caller: Caller, name: str, scopes: list[str], days: int | None) -> tuple[Token, str]:
    """A new token and its value, which is never shown again. One that is made with a token takes the scope admin, can
    do no more than that one, and ends with it at the latest."""
    require_scope(caller, "admin")
    unknown = [s for s in scopes if s not in SCOPES]
    if unknown or not scopes:
        raise InvalidError(
            f"{unknown[0] if unknown else 'nothing'!r} is not a scope",
            code="token.scope",
            hint=f"Scopes: {', '.join(SCOPES)}.",
        )
    if days is not None and not 0 < days <= MAX_DAYS:
        raise InvalidError(f"a token lasts 1 to {MAX_DAYS} days, not {days}", code="token.days")
    if not name.strip() or len(name) > 100:
        raise InvalidError("a token needs a name of 1 to 100 characters", code="token.name", pointer="/name")
    for scope in scopes:
        require_scope(caller, scope)
    value = _PREFIX + secrets.token_urlsafe(32)
    now = timezone.now()
    ends = [now + timedelta(days=days)] if days else []
    if caller.token is not None and caller.token.expires is not None:
        ends.append(caller.token.expires)
    try:
        with one_act():
            token = Token.objects.create(
                person=caller.person,
                name=name,
                digest=digest_of(value),
                beginning=value[:8],
                scopes=sorted(set(scopes)),
                created=now,
                expires=min(ends, default=None),
                made_by=caller.token,
            )
            note(caller, "token.made", name, scopes=token.scopes, days=days)
    except IntegrityError as error:
        raise ConflictError(
            f"you have a token called {name} already",
            code="token.taken",
            hint="Revoke it first, or choose another name.",
        ) from error
    return token, value


def replace_token(caller: Caller, name: str, scopes: list[str], days: int | None) -> tuple[Token, str]:
    """As ``make_token``; a token of that name is revoked in the same act."""
    with one_act():
        Token.objects.filter(person=caller.person, name=name).delete()
        return make_token(caller, name, scopes, days)


def revoke_token(caller: Caller, name: str) -> None:
    """Make a token worthless at once, and those that were made with it. A token may revoke itself; others take the
    scope admin."""
    if caller.token is None or caller.token.name != name:
        require_scope(caller, "admin")
    with one_act():
        count, _ = Token.objects.filter(person=caller.person, name=name).delete()
        if not count:
            raise MissingError(
                f"you have no token called {name}", code="token.missing", hint="List: everyshelf token list"
            )
        note(caller, "token.revoked", name)
