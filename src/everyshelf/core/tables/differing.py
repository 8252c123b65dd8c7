"""Which rows of two tables differ, before anything is said of their cells."""

from __future__ import annotations

from dataclasses import dataclass, field


@dataclass
class Differing:
    """Rows that differ, as a table of the row numbers ``ar`` and ``br``; how many rows have both.

    ``suspects``: places of the cells in which a matched row may differ. ``seen``: those of them for which a column
    ``d<place>`` already says in which rows they do. ``is_checked``: every key is known to be there once.
    """

    table: str
    matched: int
    suspects: list[int]
    seen: list[int] = field(default_factory=list)
    is_checked: bool = False
