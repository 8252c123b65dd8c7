"""Views of a shelf that people saved."""

from __future__ import annotations

from urllib.parse import quote

from everyshelf.client.part import ShelfPart
from everyshelf.core.answers.saved_views import SavedViewAnswer


class SavedViewsPart(ShelfPart):
    """Pages of the console under a name, with what they are narrowed to."""

    def views(self) -> list[SavedViewAnswer]:
        """One's own views, then those that others share."""
        return self._transport.get(f"{self._base}/views", list[SavedViewAnswer])

    def save_view(self, name: str, address: str, *, shared: bool = False) -> list[SavedViewAnswer]:
        """Save a page of the console, given as what follows ``/s/KEY`` in its address; one of the same name is
        replaced."""
        body = {"name": name, "address": address, "shared": shared}
        return self._transport.send("PUT", f"{self._base}/views", body, list[SavedViewAnswer])

    def remove_view(self, name: str) -> list[SavedViewAnswer]:
        """Remove one of one's own views."""
        return self._transport.send(
            "DELETE", f"{self._base}/views?name={quote(name, safe='')}", None, list[SavedViewAnswer]
        )
