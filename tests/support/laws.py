"""How many random examples a law is tried on."""

from __future__ import annotations

import os
import unittest
from typing import Any

from hypothesis import settings

# The suite tries a part of the examples, so that it ends in time on two processors, and the same ones each time; `make
# nightly` tries all of them, others each time: what chance finds there becomes an example of the law.
SHARE = float(os.environ.get("EVERYSHELF_LAWS", "0.2"))


# For what takes long and is looked at more cheaply elsewhere in the suite; `make nightly` runs it.
in_full = unittest.skipUnless(SHARE >= 1, "make nightly runs it")


def law(max_examples: int, **other: Any) -> settings:
    """Settings of a law worth ``max_examples`` examples in a whole run."""
    examples = max(10, round(max_examples * SHARE))
    return settings(max_examples=examples, derandomize=SHARE < 1, deadline=None, **other)
