"""What merging a kind has to know beyond its table."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

COUNT_WORDS = ("count", "total", "size", "length", "number", "num", "len")


@dataclass(frozen=True)
class Follows:
    """Fields that were made from another one of the same part, as the outputs of a cell from its source.

    They are taken from the side whose ``of`` won (the first of these names that is there), and set to ``cleared`` where
    both sides changed it: nothing was made from what came together. A part is concerned if it has the field ``mark``.
    """

    mark: str
    of: tuple[str, ...]
    cleared: dict[str, Any]


@dataclass(frozen=True)
class MergePolicy:
    """``counts``: words in the names of numbers that may count a list beside them. Where both sides changed such a
    number by what they added, it is worked out from the merged list."""

    follows: Follows | None = None
    counts: tuple[str, ...] = COUNT_WORDS
