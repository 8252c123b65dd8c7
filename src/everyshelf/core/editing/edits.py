"""Edits of a file by field and by cell."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class FieldEdit:
    """That ``field`` of the part at the outline path ``part`` (empty: the file itself) shall say ``value``."""

    part: str
    field: str
    value: Any


@dataclass(frozen=True)
class CellEdit:
    """That the cell of ``column`` in record ``row`` (from 0, in the order of the file) shall say ``value``.

    ``was``: what it said when it was looked at; None: whatever it says.
    """

    row: int
    column: str
    value: str
    was: str | None = None
