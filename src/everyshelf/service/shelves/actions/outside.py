"""Which contents lie outside the store, as people are told."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

from everyshelf.service.base.unchanged import while_unchanged
from everyshelf.service.shelves.models import OutsideContent

_AT_ONCE = 500


def outside_addresses(contents: Iterable[str]) -> dict[str, str]:
    """Content -> where its bytes lie, for those that lie outside the store. Costs next to nothing where none does."""
    if not while_unchanged(("outside",), OutsideContent.objects.exists):
        return {}
    wanted, found = list(dict.fromkeys(contents)), dict[str, str]()
    for start in range(0, len(wanted), _AT_ONCE):
        rows = OutsideContent.objects.filter(content__in=wanted[start : start + _AT_ONCE])
        found.update(rows.values_list("content", "address"))
    return found


def outside_address(content: str) -> str:
    """Where the bytes of a content lie; empty if they lie in the store."""
    return outside_addresses([content]).get(content, "")


def told_outside(artifacts: list[dict[str, Any]]) -> Iterator[tuple[dict[str, Any], str]]:
    """Those artifacts, as they are listed, whose bytes lie outside the store, each with the address."""
    found = outside_addresses(one["content"] for one in artifacts)
    return ((one, found[one["content"]]) for one in artifacts if one["content"] in found)
