"""What the parts of a shelf's client share: where requests go."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any
from urllib.parse import quote

import msgspec

from everyshelf.client.transport import Transport

_PAGE = 1000


class _Page(msgspec.Struct):
    items: list[dict[str, Any]]
    next: str | None


class ShelfPart:
    """Some of what can be done with one shelf."""

    def __init__(self, transport: Transport, key: str) -> None:
        self._transport = transport
        self.key = key
        self._base = f"shelves/{quote(key, safe='')}"

    @property
    def address(self) -> str:
        """The address of the service."""
        return self._transport.address

    @property
    def console(self) -> str:
        """The address of the shelf in the console."""
        return f"{self._transport.address}/s/{quote(self.key, safe='')}"

    def _pages(self, what: str, limit: int | None = None, **query: Any) -> Iterator[dict[str, Any]]:
        """All rows of a list of the shelf, or ``limit`` of them; pages are fetched as they are needed."""
        cursor, left = None, limit
        while True:
            size = _PAGE if left is None else min(left, _PAGE)
            page = self._transport.get(f"{self._base}/{what}", _Page, limit=size, cursor=cursor, **query)
            yield from page.items
            left = None if left is None else left - len(page.items)
            if page.next is None or left == 0:
                return
            cursor = page.next
