"""Use cases about accounts: passwords, people who may no longer sign in, sessions.

Changing a password ends all other sessions by itself: a session holds a digest of it (Django, "Session invalidation on
password change"). Tokens go on: they are listed and revoked one by one.
"""

from __future__ import annotations

import secrets
from typing import Any

from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from django.contrib.sessions.models import Session
from django.core.exceptions import ValidationError
from django.utils import timezone

from everyshelf.core.errors import ConflictError, InvalidError, RefusedError
from everyshelf.service.base.acts import one_act
from everyshelf.service.log.actions import note, note_of
from everyshelf.service.people.actions import get_person
from everyshelf.service.rights import Caller, require_scope


def require_admin(caller: Caller) -> None:
    """Return if the caller runs this installation, and the token used may do so."""
    if not caller.person.is_staff:
        raise RefusedError(
            "only who set up this installation may do this", code="rights.role", hint="Ask an administrator."
        )
    require_scope(caller, "admin")


def list_people(caller: Caller) -> list[User]:
    """Everybody who has an account, by name."""
    require_admin(caller)
    return list(User.objects.order_by("username"))


def change_password(caller: Caller, old: str, new: str) -> None:
    """Change one's own password; raises ``RefusedError`` if ``old`` is not it."""
    require_scope(caller, "admin")
    person = User.objects.get(pk=caller.person.pk)
    if not person.check_password(old):
        raise RefusedError(
            "that is not your password", code="people.wrong_password", hint="Who forgot it asks an administrator."
        )
    _set_password(person, new)
    with one_act():
        person.save(update_fields=["password"])
        note(caller, "person.password", person.username)


def reset_password(caller: Caller, name: str, new: str = "") -> str:
    """Give somebody a new password, one of our own making if none is given; gives it back, to be handed over."""
    require_admin(caller)
    person = get_person(name)
    password = put_password(person, new)
    with one_act():
        person.save(update_fields=["password"])
        end_sessions_of(person)
        note(caller, "person.password", name)
    return password


def reset_password_here(name: str, new: str = "") -> str:
    """As ``reset_password``, for whoever can write the data folder: they need no account."""
    person = get_person(name)
    password = put_password(person, new)
    with one_act():
        person.save(update_fields=["password"])
        end_sessions_of(person)
        note_of("administrator", "person.password", name, via="everyshelf admin")
    return password


def put_password(person: User, new: str) -> str:
    """Set a password that was not saved yet; a random one if ``new`` is empty."""
    password = new or secrets.token_urlsafe(12)
    _set_password(person, password)
    return password


def _set_password(person: User, new: str) -> None:
    try:
        validate_password(new, person)
    except ValidationError as error:
        raise InvalidError(" ".join(error.messages), code="people.password", pointer="/password") from error
    person.set_password(new)


def set_active(caller: Caller, name: str, active: bool) -> User:
    """Say whether somebody may sign in. Who may not any more is out at once, with every session and token; what they
    did and their roles stay."""
    require_admin(caller)
    person = get_person(name)
    with one_act():
        switch_active(person, active)
        note(caller, "person.enabled" if active else "person.disabled", name)
    return person


def switch_active(person: User, active: bool) -> None:
    """Call it in a transaction. The last administrator stays one."""
    others = User.objects.filter(is_staff=True, is_active=True).exclude(pk=person.pk)
    if not active and person.is_staff and not others.exists():
        raise ConflictError(
            f"{person.username} is the only one who runs this installation",
            code="people.last_admin",
            hint="Nobody could undo it. Make someone else an administrator first.",
        )
    person.is_active = active
    person.save(update_fields=["is_active"])
    if not active:
        end_sessions_of(person)


def end_sessions(caller: Caller, name: str, *, keep: str = "") -> int:
    """End the sessions of a person, one's own or, as an administrator, another's; ``keep`` is a session key that goes
    on. Gives how many."""
    if name == caller.person.username:
        require_scope(caller, "admin")
    else:
        require_admin(caller)
    person = get_person(name)
    with one_act():
        count = end_sessions_of(person, keep=keep)
        note(caller, "person.signed_out", name, sessions=count)
    return count


def end_sessions_of(person: User, *, keep: str = "") -> int:
    """Call it in a transaction."""
    keys = [
        session.session_key
        for session in Session.objects.filter(expire_date__gt=timezone.now()).iterator()
        if session.session_key != keep and session.get_decoded().get("_auth_user_id") == str(person.pk)
    ]
    Session.objects.filter(session_key__in=keys).delete()
    return len(keys)


def account_json(person: Any) -> dict[str, Any]:
    """An account, for those who run the installation."""
    return {
        "name": person.username,
        "full_name": person.first_name or person.username,
        "active": person.is_active,
        "admin": person.is_staff,
        "joined": person.date_joined,
        "last_signed_in": person.last_login,
    }
