"""What a caller says of a table: key, tolerances, columns to leave out, limits of shift; and what memory it may take."""

from __future__ import annotations

import shutil
from dataclasses import dataclass, field
from fnmatch import fnmatchcase
from pathlib import Path

SHIFT_LIMIT = 0.1
_MIB = 1024 * 1024
_SPILL_RESERVE, _LEAST_SPILLED, _MOST_SPILLED = 1024 * _MIB, 16 * _MIB, 16 * 1024 * _MIB
_allowed = [220 * 1024 * 1024]


def limit_memory(memory_bytes: int) -> None:
    """What an engine may use in this process from now on, if it is not told otherwise."""
    _allowed[0] = memory_bytes


def allowed_memory() -> int:
    """Bytes an engine may use."""
    return _allowed[0]


def spill_budget(folder: Path) -> int:
    """Bytes that one engine may write to ``folder`` of what does not fit into its memory: a quarter of what is free
    there beyond a reserve, since others write there as well."""
    return min(_MOST_SPILLED, max(_LEAST_SPILLED, (shutil.disk_usage(folder).free - _SPILL_RESERVE) // 4))


@dataclass(frozen=True, kw_only=True)
class TableOptions:
    """``tolerances`` and ``shift_limits`` go by patterns of column names; the first that matches counts.

    A tolerance is the largest difference of two numbers that still counts as the same value.
    """

    key: tuple[str, ...] = ()
    preferred: tuple[str, ...] = ()  # a key to try first, which may have been regenerated
    ignored: tuple[str, ...] = ()
    tolerances: tuple[tuple[str, float], ...] = ()
    shift_limits: tuple[tuple[str, float], ...] = field(default=())

    def is_ignored(self, column: str) -> bool:
        """True if the column is left out."""
        return any(fnmatchcase(column, pattern) for pattern in self.ignored)

    def tolerance(self, column: str) -> float | None:
        """The declared tolerance of a column, or None."""
        return next((value for pattern, value in self.tolerances if fnmatchcase(column, pattern)), None)

    def shift_limit(self, column: str) -> float:
        """The shift beyond which a column's change is told as a finding."""
        return next((value for pattern, value in self.shift_limits if fnmatchcase(column, pattern)), SHIFT_LIMIT)
