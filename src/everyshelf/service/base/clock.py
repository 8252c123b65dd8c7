"""Times from a clock that was ahead for a while: they lie in the future once the clock is set right."""

from __future__ import annotations

from datetime import datetime, timedelta

from django.utils import timezone

_SLACK = timedelta(minutes=1)


def is_recent(moment: datetime | None, within: timedelta) -> bool:
    """Whether a moment is at most so long ago. One in the future is not: it may be years ahead."""
    now = timezone.now()
    return moment is not None and now - within < moment <= now + _SLACK


def has_come(moment: datetime | None, longest: timedelta) -> bool:
    """Whether the time for something has come, or lies beyond the longest wait (``longest``)."""
    now = timezone.now()
    return moment is None or moment <= now or moment > now + longest + _SLACK
