"""Aligning two sequences, fast and readable.

1. What both begin and end with is aligned first.
2. Entries that occur exactly once on both sides are anchors; the longest increasing run of anchors is kept (patience:
   the longest increasing subsequence by piles, Fredman, "On computing the length of longest increasing subsequences",
   Discrete Mathematics 11, 1975) and the gaps between them are aligned in turn.
3. A gap without anchors is aligned by Ratcliff and Obershelp's longest blocks (Dr. Dobb's Journal, July 1988), if it
   is small enough that its quadratic worst case does no harm; else it counts as replaced.
"""

from __future__ import annotations

import itertools
from bisect import bisect_left
from collections import Counter
from collections.abc import Hashable, Sequence
from difflib import SequenceMatcher

_GAP_CELLS = 4_000_000


def align(before: Sequence[Hashable], after: Sequence[Hashable]) -> list[tuple[int, int]]:
    """Pairs (i, j) with ``before[i] == after[j]``, increasing in both."""
    pairs: list[tuple[int, int]] = []
    gaps = [(0, len(before), 0, len(after))]
    while gaps:
        low_a, high_a, low_b, high_b = gaps.pop()
        while low_a < high_a and low_b < high_b and before[low_a] == after[low_b]:
            pairs.append((low_a, low_b))
            low_a, low_b = low_a + 1, low_b + 1
        while low_a < high_a and low_b < high_b and before[high_a - 1] == after[high_b - 1]:
            high_a, high_b = high_a - 1, high_b - 1
            pairs.append((high_a, high_b))
        if low_a == high_a or low_b == high_b:
            continue
        anchors = _anchors(before, after, low_a, high_a, low_b, high_b)
        if not anchors:
            pairs.extend(_small_gap(before, after, low_a, high_a, low_b, high_b))
            continue
        pairs.extend(anchors)
        bounds = [(low_a - 1, low_b - 1), *anchors, (high_a, high_b)]
        gaps.extend((a + 1, c, b + 1, d) for (a, b), (c, d) in itertools.pairwise(bounds))
    return sorted(pairs)


def _anchors(
    before: Sequence[Hashable], after: Sequence[Hashable], low_a: int, high_a: int, low_b: int, high_b: int
) -> list[tuple[int, int]]:
    count_a, count_b = Counter(before[low_a:high_a]), Counter(after[low_b:high_b])
    place_b = {after[j]: j for j in range(low_b, high_b) if count_b[after[j]] == 1}
    unique = [(i, place_b[before[i]]) for i in range(low_a, high_a) if count_a[before[i]] == 1 and before[i] in place_b]
    return [unique[k] for k in increasing([j for _, j in unique])]


def _small_gap(
    before: Sequence[Hashable], after: Sequence[Hashable], low_a: int, high_a: int, low_b: int, high_b: int
) -> list[tuple[int, int]]:
    if (high_a - low_a) * (high_b - low_b) > _GAP_CELLS:
        return []
    matcher = SequenceMatcher(None, before[low_a:high_a], after[low_b:high_b], autojunk=False)
    return [
        (low_a + block.a + k, low_b + block.b + k) for block in matcher.get_matching_blocks() for k in range(block.size)
    ]


def increasing(values: Sequence[int]) -> list[int]:
    """Indices of one longest strictly increasing subsequence."""
    tails: list[int] = []
    tail_values: list[int] = []
    previous: list[int] = []
    for place, value in enumerate(values):
        pile = bisect_left(tail_values, value)
        previous.append(tails[pile - 1] if pile else -1)
        if pile == len(tails):
            tails.append(place)
            tail_values.append(value)
        else:
            tails[pile] = place
            tail_values[pile] = value
    result: list[int] = []
    at = tails[-1] if tails else -1
    while at >= 0:
        result.append(at)
        at = previous[at]
    return result[::-1]
