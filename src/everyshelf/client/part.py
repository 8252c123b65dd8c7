"""What the parts of a shelf's client share: where requests go."""

from __future__ import annotations

from urllib.parse import quote

from everyshelf.client.transport import Transport


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
