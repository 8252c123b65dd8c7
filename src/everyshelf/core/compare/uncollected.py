"""Work on large trees without the collector of cycles."""

from __future__ import annotations

import contextlib
import gc
from collections.abc import Iterator


@contextlib.contextmanager
def without_collection() -> Iterator[None]:
    """Trees of hundreds of thousands of parts hold no cycles; walking them for some takes longer than comparing."""
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()
