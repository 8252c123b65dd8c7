"""Slowing down who guesses passwords, without locking out whose password it is.

Failed tries of the last minute are counted in the records, for all processes together:

* for a name from one address: five a minute;
* from one address, whatever the name: thirty a minute;
* for a name from anywhere: fifty a minute, and then only from addresses and browsers nobody has signed in from.

A browser that has signed in keeps a signed cookie that says as whom; it counts for itself. So somebody who guesses,
from the same address or from a thousand, does not keep the real person out. (OWASP, "Slow down online guessing attacks
with device cookies".)
"""

from __future__ import annotations

import hashlib
import time
from collections import defaultdict
from typing import Any

from django.core import signing
from rest_framework import exceptions

from everyshelf.service.base.acts import aside
from everyshelf.service.people.models import FailedTry, KnownAddress

COOKIE = "everyshelf_device"
COOKIE_SECONDS = 180 * 24 * 3600
_WINDOW_SECONDS = 60.0
_FOR_PAIR, _FOR_ADDRESS, _FOR_NAME = 5, 30, 50
_MOST_KNOWN = 50_000
_SALT = "everyshelf.device"


def check(name: str, address: str, device: str) -> None:
    """Return if a try may be made now, else raise ``Throttled`` with the seconds to wait."""
    now = time.time()
    buckets = _buckets(name, address, device)
    times: dict[str, list[float]] = defaultdict(list)
    names = [bucket for bucket, _ in buckets]
    rows = FailedTry.objects.filter(bucket__in=names, at__gt=now - _WINDOW_SECONDS, at__lt=now + _WINDOW_SECONDS)
    for bucket, at in rows.order_by("at").values_list("bucket", "at"):
        times[bucket].append(at)
    waits = [times[b][-most] + _WINDOW_SECONDS - now for b, most in buckets if len(times[b]) >= most]
    if waits:
        raise exceptions.Throttled(wait=max(1, round(max(waits))), detail="Too many failed tries.")


def note_failure(name: str, address: str, device: str) -> None:
    """Count a failed try."""
    now = time.time()
    with aside():
        FailedTry.objects.exclude(at__range=(now - _WINDOW_SECONDS, now + _WINDOW_SECONDS)).delete()
        FailedTry.objects.bulk_create(FailedTry(bucket=b, at=now) for b, _ in _buckets(name, address, device))


def note_success(name: str, address: str) -> None:
    """Remember from which address a person signs in."""
    bucket = _bucket("known", name, address)
    with aside():
        KnownAddress.objects.bulk_create([KnownAddress(bucket=bucket)], ignore_conflicts=True)
        newest = KnownAddress.objects.order_by("-pk").values_list("pk", flat=True)[_MOST_KNOWN : _MOST_KNOWN + 1]
        for pk in newest:
            KnownAddress.objects.filter(pk__lte=pk).delete()


def _buckets(name: str, address: str, device: str) -> list[tuple[str, int]]:
    """What a try is counted for, and how many failed ones are too many."""
    if device:
        return [(_bucket("device", device), _FOR_PAIR)]
    buckets = [(_bucket("pair", name, address), _FOR_PAIR), (_bucket("address", address), _FOR_ADDRESS)]
    if not KnownAddress.objects.filter(bucket=_bucket("known", name, address)).exists():
        buckets.append((_bucket("name", name), _FOR_NAME))
    return buckets


def _bucket(*what: str) -> str:
    return hashlib.sha256("\0".join(what).encode()).hexdigest()


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
