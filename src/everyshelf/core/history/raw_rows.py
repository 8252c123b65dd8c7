"""The rows in which two stored blocks differ, without decoding those they share.

Both blocks are canonical JSON, so what they share at the beginning and at the end is the same bytes. Only the rows
between are decoded: one change in a block of 128 entries costs one row and not 256.
"""

from __future__ import annotations

from typing import Any

import msgspec
import numpy as np

from everyshelf.decoding import json_decoder

Row = tuple[Any, ...]
_FIRST = b'{"entries":[['
_BETWEEN = b"],["
_LAST = b"]]"
_decode = json_decoder(list[tuple[str, str, str, int]]).decode


def rows_apart(one: bytes, other: bytes) -> tuple[set[Row], set[Row]] | None:
    """The rows only ``one`` has and those only ``other`` has; None where the bytes do not tell (then decode both)."""
    if not one.startswith(_FIRST) or not other.startswith(_FIRST):
        return None
    head = max(one.rfind(_BETWEEN, 0, shared_bytes(one, other)), 0)
    start = head + len(_BETWEEN) - 1 if head else len(_FIRST) - 1
    tail = shared_bytes(one[start:], other[start:], from_end=True)
    found = one.find(_BETWEEN, len(one) - tail) if tail else -1
    from_end = len(one) - found - 1 if found >= 0 else len(one) - one.rfind(_LAST) - 1
    try:
        rows = [set(_decode(b"[" + side[start : len(side) - from_end] + b"]")) for side in (one, other)]
    except msgspec.MsgspecError:
        return None  # a name holds what looks like the end of a row
    return rows[0] - rows[1], rows[1] - rows[0]


def shared_bytes(one: bytes, other: bytes, *, from_end: bool = False) -> int:
    """How many bytes both begin with, or end with."""
    length = min(len(one), len(other))
    starts = [len(side) - length if from_end else 0 for side in (one, other)]
    left, right = (np.frombuffer(side, np.uint8, length, at) for side, at in zip((one, other), starts, strict=True))
    differs = left != right
    if from_end:
        differs = differs[::-1]
    first = int(differs.argmax()) if length else 0
    return first if length and differs[first] else length
