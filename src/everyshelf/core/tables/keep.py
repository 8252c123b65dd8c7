"""How many of the rows that differ are kept, and where."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

FIRST = 200
MOST_KEPT = 1_000_000


@dataclass(frozen=True)
class Keep:
    """How many rows go with the answer, and the file all of them go to (up to ``MOST_KEPT``), if any."""

    first: int = FIRST
    path: Path | None = None
