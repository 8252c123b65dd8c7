"""The merge of an artifact as a whole: for what is not there on a side, and for what has no parts to merge."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, TypeVar

from everyshelf.core.merge.model import SIDES, Conflict, Decision, Merged, Side

T = TypeVar("T")


@dataclass(frozen=True)
class Choice:
    """Which side's state to take, or None for a conflict."""

    side: Side | None


def whole_conflict(
    name: str, sizes: Sequence[int], why: str, prefer: str | None, decisions: Mapping[str, Mapping[str, Any]]
) -> dict[str, Any]:
    """The answer for a file of which only one side or the other can be taken."""
    take = decisions.get("/", {}).get("take") or prefer
    base, this, other = (f"{size:,} bytes" for size in sizes)
    told = f"artifact “{name}”: both sides changed it, and it cannot be put together"
    conflict = Conflict("/", "artifact", name, None, base, this, other, told, SIDES)
    if take in SIDES:
        conflict.decision = Decision("other" if take == "other" else "this")
    merged = Merged(None, [conflict], notes=[why] if why else [])
    return {**merged.as_json(), "merged": conflict.decision is not None}


def merge_whole(base: T | None, this: T | None, other: T | None, prefer: Side | None = None) -> Choice:
    """Whose state of the artifact holds after the merge; None on either side means that it is not there."""
    if this == other or other == base:
        return Choice("this")
    if this == base:
        return Choice("other")
    return Choice(prefer)
