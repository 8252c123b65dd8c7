"""Workbooks: Office Open XML (ECMA-376, part 1, SpreadsheetML) and OpenDocument (OASIS ODF 1.3, part 3), cell by cell.

Sheets are streamed, so that a sheet of a million cells costs what its values cost. Formulas are held as they were
written and in a form relative to their cell, in which a copy that merely moved is equal.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import NamedTuple

CellValue = str | int | float | bool | None
MOST_CELLS = 5_000_000


class Cell(NamedTuple):
    """A value, the formula as it was written, the same relative to its cell, and what it looks like (a digest)."""

    value: CellValue
    formula: str | None = None
    relative: str | None = None
    look: str | int | None = None

    @property
    def content(self) -> tuple[str, CellValue]:
        """What counts: the formula where there is one, else the value."""
        return ("=", self.relative) if self.relative is not None else ("", self.value)


@dataclass
class Sheet:
    """Rows and columns are counted from 1; what is empty is left out."""

    name: str
    rows: dict[int, dict[int, Cell]] = field(default_factory=dict)
    fields: dict[str, str] = field(default_factory=dict)
    hidden_rows: set[int] = field(default_factory=set)
    hidden_columns: set[int] = field(default_factory=set)
    validations: dict[str, str] = field(default_factory=dict)
    merged: list[str] = field(default_factory=list)
    checksum: int | None = None  # of the member it lies in, where that holds nothing but the sheet

    @property
    def width(self) -> int:
        """The last column that holds something."""
        return max((max(row) for row in self.rows.values() if row), default=0)


@dataclass
class Workbook:
    """Sheets in order, names defined for ranges, modules of scripts, and what the program says of the file."""

    sheets: list[Sheet] = field(default_factory=list)
    names: dict[str, str] = field(default_factory=dict)
    modules: dict[str, str] = field(default_factory=dict)
    properties: dict[str, str] = field(default_factory=dict)
    notes: list[str] = field(default_factory=list)
    unread: set[str] = field(default_factory=set)  # members that belong to it and could not be read, in lower case


def column_letters(number: int) -> str:
    """1 is A, 27 is AA."""
    letters = ""
    while number:
        number, place = divmod(number - 1, 26)
        letters = chr(65 + place) + letters
    return letters


def column_number(letters: str) -> int:
    """A is 1, AA is 27."""
    number = 0
    for letter in letters.upper():
        number = number * 26 + ord(letter) - 64
    return number
