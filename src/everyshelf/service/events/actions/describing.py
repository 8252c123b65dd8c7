"""An entry of the log as an event: CloudEvents 1.0 in the structured JSON form (cloudevents.io, JSON Event Format)."""

from __future__ import annotations

from datetime import datetime
from typing import Any

import msgspec
from django.utils import timezone

from everyshelf.service.log.actions import ACTS
from everyshelf.service.log.models import LogEntry

CONTENT_TYPE = "application/cloudevents+json; charset=utf-8"
PREFIX = "every-shelf."
TEST = "webhook.test"


def source_of(shelf: str) -> str:
    """The ``source`` of events of a shelf: a reference relative to the address of the service."""
    return f"/api/v1/shelves/{shelf}"


def event_of(entry: LogEntry) -> bytes:
    """An entry of the log as an event; its id is that of the entry."""
    words = ACTS.get(entry.act, entry.act)
    data = {
        "shelf": entry.shelf,
        "act": entry.act,
        "person": entry.person,
        "sentence": f"{entry.person} {words} {entry.subject}".rstrip(),
        "detail": entry.detail,
    }
    return _encoded(str(entry.pk), entry.act, entry.shelf, entry.subject, entry.time, data)


def test_event(shelf: str, webhook: str, person: str, event: str) -> bytes:
    """An event that says nothing but that it arrives."""
    sentence = f"{person} tried the webhook {webhook}"
    data = {"shelf": shelf, "act": TEST, "person": person, "sentence": sentence, "detail": {}}
    return _encoded(event, TEST, shelf, webhook, timezone.now(), data)


def _encoded(event: str, act: str, shelf: str, subject: str, time: datetime, data: dict[str, Any]) -> bytes:
    told = {
        "specversion": "1.0",
        "id": event,
        "source": source_of(shelf),
        "type": f"{PREFIX}{act}",
        "subject": subject,
        "time": time,
        "datacontenttype": "application/json",
        "data": data,
    }
    if not subject:
        del told["subject"]
    return msgspec.json.encode(told)
