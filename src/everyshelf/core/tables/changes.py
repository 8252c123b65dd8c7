"""What became of the rows of a table, in numbers and in the first of them."""

from __future__ import annotations

from dataclasses import dataclass, field

from everyshelf.core.answers.tables import CellCounts, DifferingRow
from everyshelf.core.errors import EveryShelfError


@dataclass
class RowChanges:
    """Exact counts; ``cells`` per column; ``details`` the first rows that differ, in the order of the newer table."""

    added: int = 0
    removed: int = 0
    changed: int = 0
    same: int = 0
    cells: dict[str, CellCounts] = field(default_factory=dict)
    rounded: list[str] = field(default_factory=list)
    details: list[DifferingRow] = field(default_factory=list)

    def cells_changed(self) -> int:
        """Cells that differ in value, over all columns."""
        return sum(c.changed for c in self.cells.values())


class NoKeyError(EveryShelfError):
    """The key is not unique, or empty somewhere; says which."""
