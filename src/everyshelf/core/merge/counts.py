"""Counts of a list beside them, which both sides changed by what they added: worked out from the merged list."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from everyshelf.core.formats.source import Group, Item
from everyshelf.core.merge.writing import Key, Out, Row


def recalculated(
    rows: Mapping[Key, Row],
    results: Mapping[Key, tuple[Item, Out, bool]],
    groups: tuple[Group, Group, Group],
    words: Sequence[str],
) -> dict[Key, tuple[str, int, int]]:
    """For each count that changed: its name (with one of ``words`` in it), what it was in the base, and is now."""
    found: dict[Key, tuple[str, int, int]] = {}
    for key, row in rows.items() if groups[0].kind == "map" else ():
        if key not in results or row.base is None or row.target is None or row.source is None:
            continue
        name, was = str(row.base.name), row.base.node.value
        if type(was) is not int or not any(word in name.lower() for word in words):
            continue
        counts = (row.base.node.value, row.target.node.value, row.source.node.value)
        list_key = next((k for k in _lists(rows, results) if _are_counts_of(counts, rows[k])), None)
        if list_key is not None and any(count != was for count in counts):
            found[key] = name, was, len(results[list_key][1].value)
    return found


def _lists(rows: Mapping[Key, Row], results: Mapping[Key, Any]) -> Iterator[Key]:
    for key, row in rows.items():
        versions = (row.base, row.target, row.source)
        if key in results and all(v is not None and v.node.shape != "scalar" for v in versions):
            yield key


def _are_counts_of(counts: tuple[Any, Any, Any], row: Row) -> bool:
    versions = (row.base, row.target, row.source)
    return all(v is not None and count == len(v.node.value) for count, v in zip(counts, versions, strict=True))
