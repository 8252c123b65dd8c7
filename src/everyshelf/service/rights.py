"""Rights: one table, one module. What one may not see is missing; what one may see and not do is refused."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

from everyshelf.core.errors import MissingError, RefusedError
from everyshelf.core.history.names import did_you_mean, nearest
from everyshelf.service.base.unchanged import while_unchanged

ROLES = ("reader", "author", "keeper", "owner")
SCOPES = ("read", "write", "promote", "admin", "import")
_RANK = {role: rank for rank, role in enumerate(ROLES)}

# right: (least role, scope a token needs)
_TABLE: dict[str, tuple[str, str]] = {
    "see": ("reader", "read"),
    "remark": ("reader", "write"),
    "follow": ("reader", "write"),
    "save views": ("reader", "write"),
    "share views": ("author", "write"),
    "commit": ("author", "write"),
    "branch": ("author", "write"),
    "propose": ("author", "write"),
    "give a verdict": ("author", "write"),
    "record checks": ("author", "write"),
    "experiment": ("author", "write"),
    "verify": ("author", "write"),
    "commit to a guarded branch": ("keeper", "write"),
    "change others' proposals": ("keeper", "write"),
    "tag": ("keeper", "promote"),
    "promote": ("keeper", "promote"),
    "change environments": ("keeper", "promote"),
    "change bindings": ("keeper", "promote"),
    "bring data in place": ("keeper", "write"),
    "capture": ("keeper", "write"),
    "make trial environments": ("author", "write"),
    "force a gate": ("owner", "promote"),
    "guard branches": ("owner", "admin"),
    "change members": ("owner", "admin"),
    "change links": ("owner", "admin"),
    "change webhooks": ("owner", "admin"),
    "send and fetch": ("author", "write"),
    "change the shelf": ("owner", "admin"),
}


@dataclass(frozen=True)
class Caller:
    """Who asks: a person, and the scopes of the token used (None: signed in, everything the person may).

    ``via`` is the name of that token, for the log; ``token`` is its record.
    """

    person: Any
    scopes: frozenset[str] | None = None
    via: str = ""
    token: Any = None

    @property
    def may_import(self) -> bool:
        """Whether authors and times of the past may be set."""
        return bool(self.person.is_staff) and (self.scopes is None or "import" in self.scopes)


def caller_of(request: Any) -> Caller:
    """The caller behind a request of the interface."""
    token = request.auth
    if token is None:
        return Caller(request.user)
    return Caller(request.user, frozenset(token.scopes), token.name, token)


def role_on(caller: Caller, shelf: Any) -> str | None:
    """The caller's role on a shelf; shelves open to all signed-in people give at least reader."""
    role = while_unchanged(
        ("role", shelf.pk, caller.person.pk),
        lambda: shelf.members.filter(person=caller.person).values_list("role", flat=True).first(),
    )
    if role is not None:
        return str(role)
    return "reader" if shelf.open_to_all else None


def roles_on(caller: Caller, shelves: Sequence[Any]) -> dict[int, str | None]:
    """The caller's role on each of these shelves, by its number, from one query."""
    member = caller.person.memberships.filter(shelf__in=[one.pk for one in shelves])
    roles = dict(member.values_list("shelf_id", "role"))
    return {one.pk: roles.get(one.pk, "reader" if one.open_to_all else None) for one in shelves}


def require(caller: Caller, shelf: Any, right: str) -> None:
    """Return if the caller has the right on the shelf, else raise ``MissingError`` or ``RefusedError``."""
    least, scope = _TABLE[right]
    role = role_on(caller, shelf)
    if role is None:
        raise missing_shelf(shelf.key)
    if _RANK[role] < _RANK[least]:
        raise RefusedError(
            f"to {right} on {shelf.name} needs the role {least}; you are {role}",
            code="rights.role",
            hint="Ask an owner of the shelf.",
            right=right,
        )
    require_scope(caller, scope)


def may(caller: Caller, shelf: Any, right: str) -> bool:
    """As ``require``, for those who only want to know."""
    try:
        require(caller, shelf, right)
    except (MissingError, RefusedError):
        return False
    return True


def may_still(person: Any, shelf: Any, right: str) -> bool:
    """Whether a person who set something up may still do so: their account is open, and their role has the right."""
    return bool(person.is_active) and may(Caller(person), shelf, right)


def require_scope(caller: Caller, scope: str) -> None:
    """Return if the token used has the scope (or none was used), else raise ``RefusedError``."""
    if caller.scopes is not None and scope not in caller.scopes:
        raise RefusedError(
            f"this token lacks the scope {scope}",
            code="rights.scope",
            hint=f"Connect again and ask for it: everyshelf connect ADDRESS --scope {scope}",
        )


def missing_shelf(key: str, seen: Iterable[str] = ()) -> MissingError:
    """The same words whether a shelf is not there or may not be seen. ``seen``: keys of those that may be."""
    return MissingError(
        f"there is no shelf {key!r} that you may see",
        code="shelf.missing",
        hint=f"{did_you_mean(nearest(key, seen))}List them: everyshelf shelf list",
    )
