"""The merge of an artifact as a whole: for what is not there on a side, and for what has no parts to merge."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TypeVar

from everyshelf.core.merge.model import Side

T = TypeVar("T")


@dataclass(frozen=True)
class Choice:
    """Which side's state to take, or None for a conflict."""

    side: Side | None


def merge_whole(base: T | None, this: T | None, other: T | None, prefer: Side | None = None) -> Choice:
    """Whose state of the artifact holds after the merge; None on either side means that it is not there."""
    if this == other or other == base:
        return Choice("this")
    if this == base:
        return Choice("other")
    return Choice(prefer)
