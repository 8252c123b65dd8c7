"""Content-defined cutting: chunk borders follow the content, so that an insertion moves only the borders near it.

A border stands after a byte where a hash of the bytes before it has a given form (the idea of Rabin fingerprints:
Muthitacharoen, Chen, Mazieres, "A low-bandwidth network file system", SOSP 2001). Hashing every position in a Python
loop is out of the question, so it is done in two stages with whole-array operations:

1. a byte-wide sum over the last 4 bytes, computed for many positions at once; about 1 position of 256 passes;
2. only there the full 64-bit hash over the last 48 bytes is taken; 1 of 192 of those is a border.

Together: one border in 48 KiB, and with the 16 KiB that are skipped after each border 64 KiB on average.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

MIN_CHUNK = 16 * 1024
MAX_CHUNK = 256 * 1024
WINDOW = 48
_FILTER_BYTE = 0xA7
_BORDER_ONE_IN = 192
_BLOCK = 48 * 1024  # a block and its scratch arrays stay inside the first- and second-level cache
_GROUP = (
    16 * _BLOCK
)  # candidates of so many bytes are hashed together: for a few alone the calls cost more than the work


@dataclass(frozen=True)
class Cutter:
    """Name and parameters of a way to cut; recorded with each content so that it can change later."""

    name: str
    min_bytes: int
    max_bytes: int


CUTTER = Cutter("two-stage-1", MIN_CHUNK, MAX_CHUNK)
# Fixed odd multipliers: part of the cutter's identity, never to be changed under the same name.
_MULTIPLIERS = [
    np.uint64(m)
    for m in (
        0x9E3779B97F4A7C15,
        0xC2B2AE3D27D4EB4F,
        0x165667B19E3779F9,
        0xD6E8FEB86659FD93,
        0xA0761D6478BD642F,
        0xE7037ED1A0B428DB,
    )
]


class _Scanner:
    """Finds the places where the content asks for a border, block by block, in arrays that are used again."""

    def __init__(self) -> None:
        size = _BLOCK + 3
        self._pairs, self._scratch = np.empty(size, np.uint8), np.empty(size, np.uint8)
        self._hits = np.empty(size, np.bool_)

    def borders(self, data: NDArray[np.uint8], start: int, stop: int) -> Iterator[int]:
        """Every place in start < place <= stop after which the content asks for a border, in order."""
        for low in range(start, stop, _GROUP):
            base, high = max(0, low - WINDOW), min(low + _GROUP, stop)
            passing = [
                self._passing_filter(data[max(0, at - 3) : min(at + _BLOCK, high)]) + max(0, at - 3)
                for at in range(low, high, _BLOCK)
            ]
            candidates = np.concatenate(passing)
            candidates = candidates[candidates >= max(WINDOW - 1, low)] - base
            if len(candidates):
                yield from (base + 1 + _accepted(data[base:high], candidates)).tolist()

    def _passing_filter(self, block: NDArray[np.uint8]) -> NDArray[np.int64]:
        """Positions i (>= 3) whose byte-wide sum over block[i-3 : i+1] equals the filter byte."""
        count = len(block)
        if count < 4:
            return np.empty(0, np.int64)
        pairs, scratch = self._pairs[: count - 1], self._scratch[: count - 1]
        np.multiply(block[1:], np.uint8(113), out=pairs)
        np.add(pairs, block[:-1], out=pairs)
        fours = np.multiply(pairs[2:], np.uint8(29), out=scratch[2:])
        np.add(fours, pairs[:-2], out=fours)
        hits = np.equal(fours, np.uint8(_FILTER_BYTE), out=self._hits[: count - 3])
        return np.flatnonzero(hits) + 3


def _accepted(block: NDArray[np.uint8], candidates: NDArray[np.int64]) -> NDArray[np.int64]:
    """Those candidates whose 64-bit hash over the 48 bytes that end there makes them a border."""
    # The windows as opaque items that overlap: only those before a candidate are copied out. (An index into
    # overlapping 8-byte words would make numpy copy the whole block first, to align it.)
    windows = np.ndarray((len(block) - WINDOW + 1,), f"V{WINDOW}", buffer=block, strides=(1,))
    words = windows[candidates - (WINDOW - 1)].view("<u8").reshape(-1, WINDOW // 8)
    hashes = np.zeros(len(candidates), np.uint64)
    for place, multiplier in enumerate(_MULTIPLIERS):
        hashes += words[:, place] * multiplier
        hashes ^= hashes >> np.uint64(29)
    hashes *= np.uint64(0xBF58476D1CE4E5B9)
    hashes >>= np.uint64(32)
    accepted: NDArray[np.int64] = candidates[hashes % np.uint64(_BORDER_ONE_IN) == 0]
    return accepted


def cut_window(data: bytes | memoryview, *, final: bool) -> Iterator[int]:
    """Yield the lengths of the chunks ``data`` is cut into, from its start.

    With ``final`` the lengths add up to ``len(data)``. Without it the rest that cannot be decided yet (it may go on)
    is left out; pass it again in front of the bytes that follow. The lengths depend on the whole content only, never
    on how it was split into windows, as long as each window is longer than ``MAX_CHUNK``.
    """
    array = np.frombuffer(data, np.uint8)
    at, size = 0, len(array)
    borders = _Scanner().borders(array, 0, size)
    border = next(borders, None)
    while size - at > MAX_CHUNK or (final and at < size):
        while border is not None and border <= at + MIN_CHUNK:
            border = next(borders, None)
        limit = min(at + MAX_CHUNK, size)
        end = limit if border is None or border > limit else border
        yield end - at
        at = end
