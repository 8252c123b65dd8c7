"""Every error the core raises, under one root.

An error is data: a stable ``code`` (area.reason), a ``message`` that says what happened to what, a ``hint`` that says
what to do next, and ``facts`` with the values concerned. Interfaces translate by class, never by text.
"""

from __future__ import annotations

from typing import Any


class EveryShelfError(Exception):
    """Root of all errors of Every Shelf; ``code`` is stable, ``hint`` is the next step."""

    code = "shelf.failed"
    hint = ""

    def __init__(self, message: str, *, hint: str | None = None, code: str | None = None, **facts: Any) -> None:
        super().__init__(message)
        self.message = message
        self.hint = self.hint if hint is None else hint
        self.code = code or self.code
        self.facts = facts


class InvalidError(EveryShelfError):
    """The caller's input is wrong; ``facts["pointer"]`` may name the field as a JSON pointer."""

    code = "input.invalid"


class MissingError(EveryShelfError):
    """What was named does not exist (or may not be seen)."""

    code = "input.missing"


class ConflictError(EveryShelfError):
    """What was asked for collides with what is there now."""

    code = "state.conflict"


class RefusedError(EveryShelfError):
    """A right or a gate stands in the way."""

    code = "rights.refused"


class BrokenError(EveryShelfError):
    """Stored bytes do not match what they should be."""

    code = "content.broken"
    hint = "Run `everyshelf verify` and bring the named content back from a backup."


class StorageError(EveryShelfError):
    """The disk refused to take or give bytes."""

    code = "content.storage"
    hint = "Look for free space and rights on the data folder, then try again; nothing was recorded."


class UnreadableError(EveryShelfError):
    """A file cannot be read as its format or kind; the message says where and why in one line."""

    code = "kind.unreadable"


class LimitError(EveryShelfError):
    """A limit of time, memory or size was reached."""

    code = "limit.reached"


class BusyError(EveryShelfError):
    """Others use all there is of something now."""

    code = "service.busy"
    hint = "Try again in a moment."
    wait = 2  # seconds after which to try again (RFC 9110, Retry-After)


class OutOfReachError(EveryShelfError):
    """A place outside the service does not answer, or not in time."""

    code = "destination.out_of_reach"
    hint = "See whether it runs and can be reached from the service, then try again; nothing was lost."
