"""Which part of one version is which part of the other, where no key says so: by equal content, then by likeness."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Sequence
from typing import Any

from everyshelf.core.compare.same import canonical, leaf_set, likeness, same_value
from everyshelf.core.outline.model import Part

RENAMED_LIKENESS = 0.6
ALONE_LIKENESS = 0.2
_CHANGED_LIKENESS = 0.5
_COMMON_LEAF = 40  # a leaf that more items share tells nothing, and would make likeness quadratic

Pair = tuple[int, int]


def gap_pairs(
    before: Sequence[Part],
    after: Sequence[Part],
    pairs: list[Pair],
    left_a: list[int],
    left_b: list[int],
    skip: tuple[str, ...],
) -> list[Pair]:
    """Within each gap of the alignment ``pairs``: likely pairs, or for plain values one against one."""
    result: list[Pair] = []
    for gap_a, gap_b in gaps(pairs, left_a, left_b):
        if not gap_a or not gap_b:
            continue
        items = [*(before[i] for i in gap_a), *(after[j] for j in gap_b)]
        plain_values = all(set(p.fields) == {"value"} for p in items)
        if plain_values and len(gap_a) == len(gap_b):
            result.extend(zip(gap_a, gap_b, strict=True))
            continue
        if len(items) == 2 and one_field_apart(items[0].value, items[1].value):
            result.append((gap_a[0], gap_b[0]))
            continue
        # One against one between equal neighbours needs less to be taken for the same.
        least = ALONE_LIKENESS if len(gap_a) == len(gap_b) == 1 else _CHANGED_LIKENESS
        result.extend(pairs_by_likeness(before, after, gap_a, gap_b, skip, least))
    return result


def without(parts: Sequence[Part], matched: set[int]) -> list[int]:
    """Places of ``parts`` that are not in ``matched``."""
    return [i for i in range(len(parts)) if i not in matched]


def minus(places: list[int], pairs: list[Pair], side: int) -> list[int]:
    """``places`` without those that ``pairs`` have on that side."""
    taken = {pair[side] for pair in pairs}
    return [i for i in places if i not in taken]


def content_key(part: Part, skip: tuple[str, ...]) -> bytes:
    """Bytes that are equal for parts of equal content, ``skip`` fields apart."""
    return canonical(stripped(part.value, skip))


def stripped(value: Any, skip: tuple[str, ...]) -> Any:
    if not skip:
        return value
    if isinstance(value, dict):
        return {k: v for k, v in value.items() if k not in skip}
    if isinstance(value, tuple):
        return (value[0], {k: v for k, v in value[1].items() if k not in skip}, value[2], value[3])
    return value


def pairs_by_equal(
    before: Sequence[Part], after: Sequence[Part], left_a: list[int], left_b: list[int], skip: tuple[str, ...]
) -> list[Pair]:
    """Pairs of equal content that is unique on both sides."""
    keys_a = {i: content_key(before[i], skip) for i in left_a}
    keys_b = {j: content_key(after[j], skip) for j in left_b}
    count_a, count_b = Counter(keys_a.values()), Counter(keys_b.values())
    place = {k: j for j, k in keys_b.items() if count_b[k] == 1}
    return [
        (i, place[k])
        for i, k in keys_a.items()
        if count_a[k] == 1 and k in place and leaf_set(stripped(before[i].value, skip))
    ]


def pairs_by_likeness(
    before: Sequence[Part],
    after: Sequence[Part],
    left_a: list[int],
    left_b: list[int],
    skip: tuple[str, ...],
    least: float,
) -> list[Pair]:
    """The likeliest pairs first, each part once; candidates come from an index of leaves, not from all pairs."""
    if not left_a or not left_b:
        return []
    leaves_a = {i: leaf_set(before[i].value, skip) for i in left_a}
    leaves_b = {j: leaf_set(after[j].value, skip) for j in left_b}
    index: dict[Any, list[int]] = defaultdict(list)
    for j, found in leaves_b.items():
        for leaf in found:
            index[leaf].append(j)
    scored = []
    for place, (i, found) in enumerate(leaves_a.items()):
        near = {j for leaf in found if len(index.get(leaf, ())) <= _COMMON_LEAF for j in index.get(leaf, ())}
        for j in near:
            score = likeness(found, leaves_b[j])
            if score >= least:
                scored.append((-score, abs(place - left_b.index(j)) if len(left_b) < 200 else 0, i, j))
    result, used_a, used_b = [], set(), set()
    for _, _, i, j in sorted(scored):
        if i not in used_a and j not in used_b:
            used_a.add(i)
            used_b.add(j)
            result.append((i, j))
    return sorted(result)


def one_field_apart(before: Any, after: Any) -> bool:
    """True for two records of the same fields of which exactly one has another value."""
    if not isinstance(before, dict) or not isinstance(after, dict) or before.keys() != after.keys():
        return False
    return sum(not same_value(value, after[name]) for name, value in before.items()) == 1


def equal_leftovers(keys_a: list[bytes], keys_b: list[bytes], left_a: list[int], left_b: list[int]) -> list[Pair]:
    """Pairs of equal content among what an alignment left, each part once."""
    places: dict[bytes, list[int]] = defaultdict(list)
    for j in left_b:
        places[keys_b[j]].append(j)
    return [(i, places[keys_a[i]].pop(0)) for i in left_a if places.get(keys_a[i])]


def gaps(pairs: list[Pair], left_a: list[int], left_b: list[int]) -> list[tuple[list[int], list[int]]]:
    """Unmatched places on both sides, split at the matched pairs."""
    from bisect import bisect_left

    bounds_a, bounds_b = [i for i, _ in pairs], [j for _, j in pairs]
    gaps: dict[int, tuple[list[int], list[int]]] = {}
    for i in left_a:
        gaps.setdefault(bisect_left(bounds_a, i), ([], []))[0].append(i)
    for j in left_b:
        gaps.setdefault(bisect_left(bounds_b, j), ([], []))[1].append(j)
    return list(gaps.values())
