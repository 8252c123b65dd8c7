"""The clock of the machine, which may have been wrong: what lies in the future was noted while it was ahead."""

from __future__ import annotations

from datetime import datetime, timedelta

from django.utils import timezone

_SLACK = timedelta(minutes=1)


def is_recent(moment: datetime | None, within: timedelta) -> bool:
    """Whether a moment is at most so long ago. One in the future is not: until it has passed could be years."""
    now = timezone.now()
    return moment is not None and now - within < moment <= now + _SLACK


def has_come(moment: datetime | None, longest: timedelta) -> bool:
    """Whether the time for something has come; also where it is further away than anybody waits (``longest``)."""
    now = timezone.now()
    return moment is None or moment <= now or moment > now + longest + _SLACK
