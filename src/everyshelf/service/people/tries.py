"""Slowing down who guesses passwords, without locking out whose password it is.

Failed tries are counted in memory, for they only have to slow guessing:

* for a name from one address: five a minute;
* from one address, whatever the name: thirty a minute;
* for a name from anywhere: fifty a minute, and then only from addresses and browsers nobody has signed in from.

A browser that has signed in keeps a signed cookie that says as whom; it counts for itself. So somebody who guesses,
from the same address or from a thousand, does not keep the real person out. (OWASP, "Slow down online guessing attacks
with device cookies".)
"""

from __future__ import annotations

import threading
import time
from collections import OrderedDict
from typing import Any

from django.core import signing
from rest_framework import exceptions

COOKIE = "everyshelf_device"
COOKIE_SECONDS = 180 * 24 * 3600
_WINDOW_SECONDS = 60.0
_FOR_PAIR, _FOR_ADDRESS, _FOR_NAME = 5, 30, 50
_MOST_BUCKETS = 50_000
_SALT = "everyshelf.device"


class Tries:
    """Failed tries of the last minute by what they are counted for."""

    def __init__(self) -> None:
        self._failed: OrderedDict[tuple[str, str], list[float]] = OrderedDict()
        self._known: OrderedDict[tuple[str, str], None] = OrderedDict()
        self._lock = threading.Lock()

    def check(self, name: str, address: str, device: str) -> None:
        """Return if a try may be made now, else raise ``Throttled`` with the seconds to wait."""
        with self._lock:
            waits = [self._wait(bucket, most) for bucket, most in self._buckets(name, address, device)]
        if any(waits):
            raise exceptions.Throttled(wait=max(1, round(max(waits))), detail="Too many failed tries.")

    def note_failure(self, name: str, address: str, device: str) -> None:
        """Count a failed try."""
        with self._lock:
            for bucket, _ in self._buckets(name, address, device):
                self._failed.setdefault(bucket, []).append(time.monotonic())
                self._failed.move_to_end(bucket)
            while len(self._failed) > _MOST_BUCKETS:  # the oldest first: flooding forgets nothing recent
                self._failed.popitem(last=False)

    def note_success(self, name: str, address: str) -> None:
        """Remember where somebody signs in from."""
        with self._lock:
            self._known[(name, address)] = None
            self._known.move_to_end((name, address))
            while len(self._known) > _MOST_BUCKETS:
                self._known.popitem(last=False)

    def _buckets(self, name: str, address: str, device: str) -> list[tuple[tuple[str, str], int]]:
        if device:
            return [(("device", device), _FOR_PAIR)]
        buckets = [((f"pair {name}", address), _FOR_PAIR), (("address", address), _FOR_ADDRESS)]
        if (name, address) not in self._known:
            buckets.append((("name", name), _FOR_NAME))
        return buckets

    def _wait(self, bucket: tuple[str, str], most: int) -> float:
        now = time.monotonic()
        recent = [t for t in self._failed.get(bucket, []) if now - t < _WINDOW_SECONDS]
        if bucket in self._failed:
            self._failed[bucket] = recent
        return recent[-most] + _WINDOW_SECONDS - now if len(recent) >= most else 0.0


def device_of(request: Any, name: str) -> str:
    """The browser's own mark, if it has signed in as that person before; else nothing."""
    try:
        person, mark = signing.loads(request.COOKIES.get(COOKIE, ""), salt=_SALT, max_age=COOKIE_SECONDS)
    except (signing.BadSignature, ValueError, TypeError):
        return ""
    return str(mark) if person == name else ""


def device_cookie(name: str, mark: str) -> str:
    """The value of the cookie for a browser that has just signed in."""
    return signing.dumps([name, mark], salt=_SALT)
