"""People of a shelf, and what they did."""

from __future__ import annotations

from collections.abc import Iterator
from urllib.parse import quote

import msgspec

from everyshelf.client.models import Invitation, LogEntry, MadeInvitation, Member, Shelf, ShelfStore
from everyshelf.client.part import ShelfPart
from everyshelf.client.transport import Transport

_PAGE = 500


class _LogPage(msgspec.Struct):
    items: list[LogEntry]
    next: int | None


class PeoplePart(ShelfPart):
    """Who may do what."""

    def change(
        self, *, name: str | None = None, description: str | None = None, open_to_all: bool | None = None
    ) -> Shelf:
        """Change what the shelf is called, what is said about it, or whether all signed-in people see it."""
        wanted = {"name": name, "description": description, "open_to_all": open_to_all}
        body = {field: value for field, value in wanted.items() if value is not None}
        return self._transport.send("PATCH", self._base, body, Shelf)

    def store(self) -> ShelfStore:
        """The store where the bytes of the shelf live."""
        return self._transport.get(f"{self._base}/store", ShelfStore)

    def change_store(self, store: str) -> ShelfStore:
        """Let the bytes of the shelf live in another store; a job copies what was written before (``Client.wait``)."""
        return self._transport.send("PUT", f"{self._base}/store", {"store": store}, ShelfStore)

    def members(self) -> list[Member]:
        """Who has a role, owners first."""
        return self._transport.get(f"{self._base}/members", list[Member])

    def set_member(self, person: str, role: str) -> Member:
        """Give someone a role: reader, author, keeper or owner."""
        return self._transport.send("PUT", f"{self._base}/members", {"person": person, "role": role}, Member)

    def remove_member(self, person: str) -> None:
        """Take someone's role away."""
        self._transport.send("DELETE", f"{self._base}/members/{quote(person, safe='')}")

    def invitations(self) -> list[Invitation]:
        """Invitations, newest first."""
        return self._transport.get(f"{self._base}/invitations", list[Invitation])

    def invite(self, role: str, note: str = "", days: int = 7) -> MadeInvitation:
        """Invite somebody; ``value`` is shown this once."""
        body = {"role": role, "note": note, "days": days}
        return self._transport.send("POST", f"{self._base}/invitations", body, MadeInvitation)

    def withdraw_invitation(self, uid: str) -> None:
        """Make an invitation worthless at once."""
        self._transport.send("DELETE", f"{self._base}/invitations/{quote(uid, safe='')}")

    def log(self, *, person: str = "", act: str = "", limit: int | None = None) -> Iterator[LogEntry]:
        """Who did what, newest first; of one person, one act (``branch.made``) or about one thing (``branch``)."""
        return read_log(self._transport, f"{self._base}/log", person=person, act=act, limit=limit)


def read_log(
    transport: Transport, address: str, *, person: str = "", act: str = "", limit: int | None = None
) -> Iterator[LogEntry]:
    """Entries of a log; pages are fetched as they are needed."""
    before, left = None, limit
    while left is None or left > 0:
        size = _PAGE if left is None else min(left, _PAGE)
        query = {"person": person or None, "act": act or None, "before": before, "limit": size}
        page = transport.get(address, _LogPage, **query)
        yield from page.items
        left = None if left is None else left - len(page.items)
        before = page.next
        if before is None:
            return
