"""Addresses as they may be shown: what lets someone in is left out."""

from __future__ import annotations

import math
import re
from collections import Counter
from urllib.parse import parse_qsl, urlsplit, urlunsplit

HIDDEN = "…"
_LEAST, _LEAST_BITS = 16, 3.0  # characters of a part of a path, and bits in each, from which it looks like a key
_KEY = re.compile(r"[A-Za-z0-9_~.+=-]+\Z")


def shown(address: str) -> str:
    """The address without a name and password, without the values of its query, and without those parts of its path
    that look like keys. It is the address itself where it holds none."""
    parts = urlsplit(address)
    path = "/".join(HIDDEN if _looks_like_key(step) else step for step in parts.path.split("/"))
    query = "&".join(f"{name}={HIDDEN}" for name, _ in parse_qsl(parts.query, keep_blank_values=True))
    if parts.query and not query:
        query = HIDDEN
    host = parts.netloc.rpartition("@")[2]
    return urlunsplit((parts.scheme, host, path, query, HIDDEN if parts.fragment else ""))


def _looks_like_key(step: str) -> bool:
    """Whether a part of a path is long, of letters and digits, and as mixed as something drawn by lot."""
    if len(step) < _LEAST or not _KEY.match(step) or not any(c.isdigit() for c in step):
        return False
    bits = -sum(n / len(step) * math.log2(n / len(step)) for n in Counter(step).values())
    return bits >= _LEAST_BITS
