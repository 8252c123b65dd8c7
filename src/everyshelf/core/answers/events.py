"""Webhooks and what was delivered to them."""

from __future__ import annotations

from datetime import datetime

from everyshelf.core.answers.base import Answer


class WebhookAnswer(Answer):
    """An address that hears of what happens on a shelf. ``about``: acts, or what acts are about; empty: all.
    ``secret`` is shown once, when it is made. ``waiting``, ``failed``: deliveries; ``stopped``: why none is sent."""

    name: str
    address: str
    about: list[str]
    made_by: str
    created: datetime
    waiting: int
    failed: int
    last: datetime | None = None
    stopped: str = ""
    secret: str = ""


class DeliveryAnswer(Answer):
    """An event and how its delivery went: ``waiting``, ``done`` or ``failed``; ``why`` not, and the ``status`` that
    came. ``body`` is what was sent."""

    event: str
    type: str
    subject: str
    state: str
    tries: int
    created: datetime
    body: str
    next_try: datetime | None = None
    ended: datetime | None = None
    status: int | None = None
    why: str = ""
    took_ms: int | None = None


class DeliveryPage(Answer):
    """A page of deliveries, newest first; ``next`` is the cursor of the page after it."""

    items: list[DeliveryAnswer]
    next: str | None = None
