"""Equality of raw trees, decided in C where possible, and told from mere likeness of Python values.

``==`` holds 1, 1.0 and True to be equal. 1 and 1.0 are two spellings of one number; True is another value.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from decimal import Decimal
from typing import Any

import orjson


def same_value(before: Any, after: Any) -> bool:
    """True if both mean the same; equal trees that hold booleans against numbers are told apart."""
    if before is after:
        return True
    try:
        if before != after:
            return _both_nan(before, after)
    except RecursionError:
        return False
    if isinstance(before, tuple):
        return True  # XML holds nothing but texts
    if isinstance(before, dict | list):
        # Equal as Python holds them; whether 1 stands against True shows once they are written out.
        return _written(before) == _written(after) or canonical(before) == canonical(after)
    return isinstance(before, bool) == isinstance(after, bool)


def differing(before: Sequence[Any], after: Sequence[Any], pairs: list[tuple[int, int]]) -> list[tuple[int, int]]:
    """The pairs of places whose values do not mean the same; what is equal is looked through as a whole."""
    try:
        if pairs and all(isinstance(before[i], tuple) for i, _ in pairs):
            return [(i, j) for i, j in pairs if before[i] != after[j]]  # XML holds nothing but texts
        equal = [(i, j) for i, j in pairs if before[i] == after[j]]
        if _written([before[i] for i, _ in equal]) == _written([after[j] for _, j in equal]):
            known = set(equal)
            return [p for p in pairs if p not in known and not same_value(before[p[0]], after[p[1]])]
    except RecursionError:
        pass
    return [(i, j) for i, j in pairs if not same_value(before[i], after[j])]


def written_alike(before: Any, after: Any) -> bool:
    """True for two equal values whose members also stand in the same order."""
    return before is after or type(before) not in (dict, list) or _written(before) == _written(after)


def _both_nan(before: Any, after: Any) -> bool:
    return isinstance(before, float) and isinstance(after, float) and before != before and after != after


def _written(value: Any) -> bytes:
    """As ``canonical`` but for the order of keys, which nearly always is the same."""
    try:
        return orjson.dumps(value)
    except (TypeError, ValueError, RecursionError):
        return repr(value).encode("utf-8", "surrogatepass")


def canonical(value: Any) -> bytes:
    """Bytes that are equal exactly for trees of the same meaning (keys sorted, whole floats as integers)."""
    try:
        return orjson.dumps(value, default=_other, option=orjson.OPT_SORT_KEYS | orjson.OPT_NON_STR_KEYS)
    except (TypeError, ValueError, RecursionError):
        return repr(value).encode("utf-8", "surrogatepass")


def _other(value: Any) -> Any:
    return f"number {value}" if isinstance(value, Decimal | int) else repr(value)


def leaves(value: Any, path: str = "", depth: int = 0) -> Iterator[tuple[str, Any]]:
    """Path and value of each scalar below ``value``; a tuple counts as an XML element."""
    if isinstance(value, dict):
        for name, child in value.items():
            yield from leaves(child, f"{path}/{name}", depth + 1)
    elif isinstance(value, list):
        for child in value:
            yield from leaves(child, f"{path}/*", depth + 1)
    elif isinstance(value, tuple):
        _tag, attributes, text, children = value
        for name, attribute in attributes.items():
            yield f"{path}/@{name}", attribute
        if text:
            yield path, text
        for child in children:
            yield from leaves(child, f"{path}/{child[0]}", depth + 1)
    else:
        yield path, value


_FEW_LEAVES = 3


def leaf_set(value: Any, ignored: tuple[str, ...] = ()) -> frozenset[tuple[str, str]]:
    """Leaves as a set, for measuring likeness; ``ignored`` names of the top level (an identity) are left out."""
    skip = {f"/{name}" for name in ignored} | {f"/@{name}" for name in ignored}
    found = [(p, v) for p, v in leaves(value) if p not in skip]
    if len(found) <= _FEW_LEAVES:
        # A paragraph or a statement is like another by its words; as a whole it is merely equal or not.
        return frozenset(
            (p, word) for p, v in found for word in (v.split() if isinstance(v, str) and " " in v else (repr(v),))
        )
    return frozenset((p, repr(v)) for p, v in found)


def likeness(before: frozenset[Any], after: frozenset[Any]) -> float:
    """Shared leaves over the mean number of leaves: 0 (nothing in common) to 1 (Sorensen-Dice)."""
    total = len(before) + len(after)
    return 2 * len(before & after) / total if total else 1.0
