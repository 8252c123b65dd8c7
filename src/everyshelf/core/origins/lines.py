"""Origins of the lines of a text: one version for each line, in one array."""

from __future__ import annotations

import zlib
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from everyshelf.core.origins.steps import LineStep

Numbers = NDArray[np.int64]
_NEVER = -1


@dataclass(frozen=True)
class LineOrigins:
    """Which version last set each line, and which last changed nothing but its spaces (-1: none)."""

    own: Numbers
    looks: Numbers


def first(version: int, lines: int) -> LineOrigins:
    """The origins of a version that comes from no other."""
    return LineOrigins(np.full(lines, version, np.int64), np.full(lines, _NEVER, np.int64))


def carried(step: LineStep, before: LineOrigins, version: int) -> LineOrigins:
    """The origins of ``version``, whose step from the version with the origins ``before`` this is."""
    own, looks = np.full(step.lines, version, np.int64), np.full(step.lines, _NEVER, np.int64)
    for old, new, count in step.runs:
        own[new : new + count] = before.own[old : old + count]
        looks[new : new + count] = before.looks[old : old + count]
    looks[step.looks] = version
    return LineOrigins(own, looks)


def combined(one: LineOrigins, other: LineOrigins, version: int) -> LineOrigins:
    """The origins of a merge; what both sides say is new is the merge's."""
    return LineOrigins(
        np.where(one.own != version, one.own, other.own), np.where(one.looks != version, one.looks, other.looks)
    )


def line_before(step: LineStep, line: int) -> int | None:
    """Where a line of the newer version was in the older; None for a new one."""
    for old, new, count in step.runs:
        if new <= line < new + count:
            return old + line - new
    return step.changed.get(line)


def packed_lines(origins: LineOrigins) -> bytes:
    """As bytes to be kept: differences from line to line, which are mostly nothing."""
    both = np.concatenate([np.diff(origins.own, prepend=0), np.diff(origins.looks, prepend=0)])
    return zlib.compress(both.tobytes(), 6)


def unpacked_lines(data: bytes) -> LineOrigins:
    """What ``packed_lines`` made bytes of."""
    both = np.frombuffer(zlib.decompress(data), np.int64)
    half = len(both) // 2
    return LineOrigins(np.cumsum(both[:half]), np.cumsum(both[half:]))
