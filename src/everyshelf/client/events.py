"""Webhooks: what happens on a shelf, told to programs elsewhere."""

from __future__ import annotations

from collections.abc import Sequence
from urllib.parse import quote

from everyshelf.client.part import ShelfPart
from everyshelf.core.answers.events import DeliveryAnswer, DeliveryPage, WebhookAnswer


class EventsPart(ShelfPart):
    """The webhooks of a shelf."""

    def webhooks(self) -> list[WebhookAnswer]:
        """The addresses that hear of what happens here."""
        return self._transport.get(f"{self._base}/webhooks", dict[str, list[WebhookAnswer]])["webhooks"]

    def webhook(self, name: str) -> WebhookAnswer:
        """One of them."""
        return self._transport.get(self._webhook(name), WebhookAnswer)

    def make_webhook(
        self, name: str, address: str, about: Sequence[str] = (), *, secret: str | None = None
    ) -> WebhookAnswer:
        """Make a webhook that hears of ``about`` (``commit``, ``promotion.recorded``, …; empty: all). The answer holds
        the secret that signs each event; no other does."""
        body = {"name": name, "address": address, "about": list(about)} | ({"secret": secret} if secret else {})
        return self._transport.send("POST", f"{self._base}/webhooks", body, WebhookAnswer)

    def change_webhook(
        self,
        name: str,
        *,
        address: str | None = None,
        about: Sequence[str] | None = None,
        secret: str | None = None,
    ) -> WebhookAnswer:
        """Change a webhook; one that was stopped starts again."""
        said = {"address": address, "about": list(about) if about is not None else None, "secret": secret}
        body = {member: value for member, value in said.items() if value is not None}
        return self._transport.send("PATCH", self._webhook(name), body, WebhookAnswer)

    def remove_webhook(self, name: str) -> None:
        """Forget a webhook and its deliveries."""
        self._transport.send("DELETE", self._webhook(name))

    def test_webhook(self, name: str) -> DeliveryAnswer:
        """Send an event now that says nothing but that it arrives."""
        return self._transport.send("POST", f"{self._webhook(name)}/test", None, DeliveryAnswer)

    def deliveries(self, name: str, *, state: str = "", limit: int = 50, cursor: str = "") -> DeliveryPage:
        """What a webhook was sent, newest first."""
        address = f"{self._webhook(name)}/deliveries"
        return self._transport.get(address, DeliveryPage, state=state or None, limit=limit, cursor=cursor or None)

    def send_event_again(self, name: str, event: str) -> DeliveryAnswer:
        """Send an event again, at once."""
        address = f"{self._webhook(name)}/deliveries/{quote(event, safe='')}/send"
        return self._transport.send("POST", address, None, DeliveryAnswer)

    def _webhook(self, name: str) -> str:
        return f"{self._base}/webhooks/{quote(name, safe='')}"
