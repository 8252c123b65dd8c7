"""Wait for what happens a while later, however slow the machine is."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import TypeVar

Found = TypeVar("Found")
PATIENCE = 300.0  # seconds: only a thing that never happens takes them


def until(found: Callable[[], Found], what: str, seconds: float = PATIENCE) -> Found:
    """The first truthy value of ``found``, asked for ten times a second; fails with ``what`` if none comes."""
    end = time.monotonic() + seconds
    while not (value := found()):
        if time.monotonic() > end:
            raise AssertionError(f"waited in vain: {what}")
        time.sleep(0.1)
    return value
