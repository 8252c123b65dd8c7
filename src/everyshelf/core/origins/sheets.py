"""Where rows and cells of a sheet are among the children of the part that stands for it."""

from __future__ import annotations

import re

_ROWS_FROM = 1_000_000  # row N is the child at this place and N more; its cells are at their columns' numbers
_CELL = re.compile(r"([A-Z]{1,4})([1-9]\d{0,6})\Z")


def row_place(number: int) -> int:
    """The place of a row, counted from 1, among the children of its sheet."""
    return _ROWS_FROM + number


def is_row(place: int) -> bool:
    """True for the place of a row."""
    return place > _ROWS_FROM


def row_number(place: int) -> int:
    """The number of the row at a place."""
    return place - _ROWS_FROM


def cell_name(row: int, column: int) -> str:
    """``B12`` for row 12, column 2."""
    letters = ""
    while column:
        column, rest = divmod(column - 1, 26)
        letters = chr(65 + rest) + letters
    return f"{letters}{row}"


def cell_places(name: str) -> list[int] | None:
    """The places of ``B12``, below its sheet; None for any other name."""
    found = _CELL.match(name.upper())
    if found is None:
        return None
    column = 0
    for letter in found[1]:
        column = column * 26 + ord(letter) - 64
    return [row_place(int(found[2])), column]
