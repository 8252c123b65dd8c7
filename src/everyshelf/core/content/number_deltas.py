"""Pages of numbers said by others that are much like them: which number became which, and where that does not hold.

Rows that came or went move all behind them, so for each stretch of a page it is said first how far its numbers lie from
those of the base. Then, by the number of the base, what most of its occurrences became; only the others are kept::

    4 B each: stretches, known numbers, others
    shifts of the stretches, and what the known numbers became (both as differences, 4 B in planes)
    the others: how far each lies behind the one before, and its number (4 B in planes)
    the page without its numbers, as ``numbers`` says it

as a Zstandard frame (RFC 8878) with the base's bytes as raw dictionary.
"""

from __future__ import annotations

import dataclasses
import struct

import numpy as np
import zstandard
from numpy.typing import NDArray

from everyshelf.core.content.numbers import Numbers, from_planes, planes
from everyshelf.core.errors import BrokenError

_STRETCH = 2_048  # numbers
_FARTHEST = 4_096  # a stretch is looked for so far from where the one before it lay
_SAMPLE = 64
_SAME, _ALIKE, _HARDLY = 0.8, 0.6, 0.3  # shares of a sample
_NEAR = 64  # parts of all numbers: renumbering moves neighbours by so much less or more at most
_HEAD = struct.Struct("<III")
_MOST_NUMBERS = 4_000_000

Whole = NDArray[np.int64]


def encode_number_delta(data: bytes, base: bytes, level: int) -> bytes:
    """What of a page differs from the base. Raises ``BrokenError`` unless both are pages of numbers."""
    page, other = Numbers.decoded(data), Numbers.decoded(base)
    new, old = page.numbers.astype(np.int64), other.numbers.astype(np.int64)
    shifts = _shifts(new, old)
    there, is_known = _partners(len(new), shifts, old)
    became = _became(there[is_known], new[is_known])
    expected = _expected(there, is_known, became)
    others = np.flatnonzero(expected != new)
    less = dataclasses.replace(page, numbers=np.zeros(0, np.uint32))
    plain = b"".join(
        (
            _HEAD.pack(len(shifts), len(became), len(others)),
            _differences(shifts),
            _differences(became - np.arange(len(became))),
            _differences(others),
            planes(new[others].astype(np.uint32), 4),
            less.encoded(),
        )
    )
    return zstandard.ZstdCompressor(level=level, dict_data=_dictionary(base), write_dict_id=False).compress(plain)


def decode_number_delta(frame: bytes, base: bytes, most: int) -> bytes:
    """The bytes of the page, ``most`` at most. Raises ``BrokenError``."""
    unpacker = zstandard.ZstdDecompressor(dict_data=_dictionary(base))
    try:
        # Not more than 8 bytes for each number that is another, 4 for each that is known, and what it has beside.
        plain = unpacker.decompress(frame, max_output_size=16 * (most + len(base)) + 4096)
        stretches, known, many = _HEAD.unpack_from(plain)
        at = _HEAD.size
        shifts, at = _summed(plain, at, stretches)
        became, at = _summed(plain, at, known)
        others, at = _summed(plain, at, many)
        values = from_planes(plain, at, many, 4)
        less, old = Numbers.decoded(plain[at + 4 * many :]), Numbers.decoded(base).numbers.astype(np.int64)
        count = _count_of(less, most)
        there, is_known = _partners(count, shifts, old)
        numbers = _expected(there, is_known, became + np.arange(known))
        numbers[others] = values
    except (zstandard.ZstdError, struct.error, ValueError, IndexError) as error:
        raise BrokenError(f"a delta of numbers does not fit its base: {error}") from error
    return dataclasses.replace(less, numbers=numbers.astype(np.uint32)).encoded()


def _dictionary(base: bytes) -> zstandard.ZstdCompressionDict:
    return zstandard.ZstdCompressionDict(base, dict_type=zstandard.DICT_TYPE_RAWCONTENT)


def _count_of(page: Numbers, most: int) -> int:
    """How many numbers the runs of a page have."""
    runs = page.runs.astype(np.int64)
    count = int(np.where(runs & 1, runs >> 1 << 3, runs >> 1).sum())
    if count > min(_MOST_NUMBERS, max(most, 1) if page.width else _MOST_NUMBERS):
        raise ValueError("it says more than it may")
    return count


def _differences(numbers: Whole) -> bytes:
    return planes(np.diff(numbers, prepend=0).astype(np.int32).view(np.uint32), 4)


def _summed(data: bytes, at: int, count: int) -> tuple[Whole, int]:
    steps = from_planes(data, at, count, 4).view(np.int32).astype(np.int64)
    return np.cumsum(steps), at + 4 * count


def _partners(count: int, shifts: Whole, old: Whole) -> tuple[Whole, NDArray[np.bool_]]:
    """For each number of the page the one of the base that lies there, and whether any does."""
    places = np.arange(count) + np.repeat(shifts, _STRETCH)[:count]
    is_known = (places >= 0) & (places < len(old))
    there = np.zeros(count, np.int64)
    there[is_known] = old[places[is_known]]
    return there, is_known


def _expected(there: Whole, is_known: NDArray[np.bool_], became: Whole) -> Whole:
    expected = np.zeros(len(there), np.int64)
    can_be_told = is_known & (there < len(became))
    expected[can_be_told] = became[there[can_be_told]]
    return expected


def _became(old: Whole, new: Whole) -> Whole:
    """By number of the base, what most of its occurrences became; of one that does not occur, as the one before."""
    if not len(old):
        return np.zeros(0, np.int64)
    pairs, counts = np.unique(old << 32 | new, return_counts=True)
    order = np.lexsort((counts, pairs >> 32))  # the most frequent of each comes last
    first = pairs[order]
    is_last = np.append(np.diff(first >> 32) != 0, True)
    known, what = first[is_last] >> 32, first[is_last] & 0xFFFFFFFF
    moved = np.zeros(int(known[-1]) + 1, np.int64)
    moved[known] = np.diff(what - known, prepend=0)  # what does not occur adds nothing
    return np.cumsum(moved) + np.arange(len(moved))


def _shifts(new: Whole, old: Whole) -> Whole:
    """For each stretch, how far on in the base it lies. Numbers that were not renumbered differ by the same there;
    others by about as much, as few values came or went between most and the next."""
    near = int(max(new.max(initial=0), old.max(initial=0))) // _NEAR
    shifts: list[int] = []
    shift, is_exact = 0, True
    for start in range(0, len(new), _STRETCH):
        stretch = new[start : start + _STRETCH]
        sample = np.unique(np.linspace(0, len(stretch) - 1, _SAMPLE).astype(np.int64))
        values, places = stretch[sample], start + sample
        same, alike = _alike(values, old, places, np.array([shift]), near)
        if same[0] < _SAME * len(values) and (is_exact or alike[0] < _ALIKE * len(values)):
            shift, is_exact = _found(values, old, places, shift, near)
        shifts.append(shift)
    return np.array(shifts, np.int64)


def _alike(values: Whole, old: Whole, places: Whole, shifts: Whole, near: int) -> tuple[Whole, Whole]:
    """By shift, how many of a sample differ by the same from what lies there, and how many by about as much."""
    if not len(old):
        return np.zeros(len(shifts), np.int64), np.zeros(len(shifts), np.int64)
    at = np.clip(shifts.astype(np.int32)[:, None] + places.astype(np.int32)[None, :], 0, len(old) - 1)
    apart = old.astype(np.int32)[at] - values.astype(np.int32)[None, :]
    off = np.abs(apart - np.partition(apart, len(values) // 2, axis=1)[:, len(values) // 2, None])
    return (off == 0).sum(axis=1), (off <= near).sum(axis=1)


def _found(values: Whole, old: Whole, places: Whole, before: int, near: int) -> tuple[int, bool]:
    """The shift at which a sample is most like the base, and whether most of it is the same there; the one before it
    where none is much like it."""
    steps = np.arange(_FARTHEST + 1)
    tried = before + np.stack((steps, -steps), axis=1).ravel()[1:]  # near ones first
    same, alike = _alike(values, old, places, tried, near)
    for counts, least, is_exact in ((same, _ALIKE, True), (alike, _HARDLY, False)):
        best = int(counts.argmax())
        if counts[best] >= least * len(values):
            return int(tried[best]), is_exact
    return before, False
