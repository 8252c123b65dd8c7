"""Cached pages of listings, as JSON.

What lies in one state of a shelf never changes; only what its versions say of their comparison comes later, once a job
has worked it out. So a page whose versions are all described is kept until its room is needed, any other for a second.
"""

from __future__ import annotations

import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import Any

import orjson

from everyshelf.service.http.rendering import as_json

_MOST_BYTES = 24 * 1024 * 1024
_UNSETTLED_SECONDS = 1.0


class Pages:
    """The pages that were asked for last."""

    def __init__(self) -> None:
        self._kept: OrderedDict[Hashable, tuple[bytes, float | None]] = OrderedDict()
        self._bytes = 0
        self._lock = threading.Lock()

    def get(self, key: Hashable, make: Callable[[], list[dict[str, Any]]]) -> orjson.Fragment:
        """The items of a page, made unless they are kept. ``key`` says all they depend on."""
        now = time.monotonic()
        with self._lock:
            kept, until = self._kept.get(key, (None, None))
            if kept is not None and (until is None or now < until):
                self._kept.move_to_end(key)
                return orjson.Fragment(kept)
        items = make()
        data = as_json(items)
        is_settled = all(item["headline"] or item.get("removed") for item in items)
        with self._lock:
            self._drop(key)
            self._kept[key] = data, None if is_settled else now + _UNSETTLED_SECONDS
            self._bytes += len(data)
            while self._bytes > _MOST_BYTES and len(self._kept) > 1:
                self._drop(next(iter(self._kept)))
        return orjson.Fragment(data)

    def _drop(self, key: Hashable) -> None:
        kept, _ = self._kept.pop(key, (b"", None))
        self._bytes -= len(kept)


pages = Pages()
