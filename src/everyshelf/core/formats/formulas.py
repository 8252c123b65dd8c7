"""Formulas relative to their cell: ``=A1*$B$1`` in C3 becomes ``=R[-2]C[-2]*R1C2``, so that a copy that moved is equal.

The tokens are those of openpyxl's tokenizer (ECMA-376, part 1, 18.17); OpenDocument writes its references in brackets
(OASIS ODF 1.3, part 4, 5.8).
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from functools import lru_cache
from typing import Protocol

from everyshelf.core.formats.workbooks import column_letters, column_number

_REFERENCE = re.compile(r"(\$?)([A-Za-z]{1,3})(\$?)(\d{1,7})")
_RANGE = re.compile(r"(?P<sheet>.*!)?(?P<rest>[^!]+)$", re.DOTALL)
_COLUMN = re.compile(r"(\$?)([A-Za-z]{1,3})")
_ROW = re.compile(r"(\$?)(\d{1,7})")
# Without texts, other sheets and tables, cells can be told from functions and names by what stands around them.
_NEEDS_TOKENS = re.compile(r"[\"'!\[{#@]|\S\s+[\w$(]")
_PLAIN = re.compile(
    r"(?<![\w.$])(?:\$?[A-Z]{1,3}\$?\d{1,7}|\$?[A-Z]{1,3}:\$?[A-Z]{1,3}|\$?\d{1,7}:\$?\d{1,7})(?![\w.(])", re.ASCII
)
_OPEN = re.compile(r"\[([^\[\]]*)\]")
_OPEN_REFERENCE = re.compile(r"(?P<sheet>(?:\$?(?:'(?:[^']|'')*'|[^.:'$ ]+))?\.)(?P<rest>[^.:]+)")


def relative_formula(formula: str, row: int, column: int) -> str:
    """A formula of a workbook in Office Open XML, with or without its leading ``=``."""
    formula = formula.removeprefix("=")
    if not _NEEDS_TOKENS.search(formula):
        plain = _PLAIN.sub(lambda found: _cells(found[0], row, column), "".join(formula.split()).upper())
        return _spelt(plain)
    return _spelt("".join(_piece(p, row, column) for p in _tokens(formula)))


@lru_cache(4096)
def _tokens(formula: str) -> tuple[tuple[str, bool], ...]:
    """Texts of the tokens, and whether each names cells."""
    from openpyxl.formula.tokenizer import Token, Tokenizer, TokenizerError

    try:
        items = Tokenizer(f"={formula}").items
    except (TokenizerError, IndexError, ValueError):
        return ((formula, False),)
    return tuple(
        (t.value, t.type == Token.OPERAND and t.subtype == Token.RANGE) for t in items if t.type != Token.WSPACE
    )


def _piece(token: tuple[str, bool], row: int, column: int) -> str:
    text, names_cells = token
    if not names_cells:
        return text if text.startswith('"') else text.upper()
    found = _RANGE.match(text)
    if found is None:
        return text
    return (found["sheet"] or "") + _cells(found["rest"], row, column)


def _cells(reference: str, row: int, column: int) -> str:
    """Each corner of a range of cells, of whole rows or of whole columns; a defined name stays as it is."""
    corners = reference.split(":")
    told = [_corner(c, row, column, alone=len(corners) == 1) for c in corners]
    return ":".join(t for t in told if t is not None) if None not in told else reference


def _corner(corner: str, row: int, column: int, *, alone: bool) -> str | None:
    if found := _REFERENCE.fullmatch(corner):
        return _row(found[3], int(found[4]), row) + _column(found[1], found[2], column)
    if not alone and (found := _COLUMN.fullmatch(corner)):
        return _column(found[1], found[2], column)
    if not alone and (found := _ROW.fullmatch(corner)):
        return _row(found[1], int(found[2]), row)
    return None


def _row(fixed: str, number: int, row: int) -> str:
    return f"R{number}" if fixed else f"R[{number - row}]"


def _column(fixed: str, letters: str, column: int) -> str:
    number = column_number(letters)
    return f"C{number}" if fixed else f"C[{number - column}]"


def written_formula(relative: str, row: int, column: int) -> str:
    """What a relative formula is in a cell: of cells that share one text, only the first has it written."""

    def told(found: re.Match[str]) -> str:
        return _placed(found["across"], column, column_letters) + _placed(found["down"], row, str)

    return _RELATIVE.sub(told, relative)


def _placed(told: str, here: int, spelt: Callable[[int], str]) -> str:
    return spelt(here + int(told[1:-1])) if told.startswith("[") else f"${spelt(int(told))}"


_STEP = r"(?:\[-?\d+\]|\d+)"
_RELATIVE = re.compile(rf"(?<![\w\]])R(?P<down>{_STEP})C(?P<across>{_STEP})(?![\w\[])")


def relative_open_formula(formula: str, row: int, column: int) -> str:
    """A formula of an OpenDocument sheet, without the name of its grammar."""

    def replaced(found: re.Match[str]) -> str:
        return "[" + _OPEN_REFERENCE.sub(told, found[1]) + "]"

    def told(found: re.Match[str]) -> str:
        return found["sheet"] + _cells(found["rest"], row, column)

    return _spelt(_OPEN.sub(replaced, formula.removeprefix("=")))


def _spelt(relative: str) -> str:
    return f"={relative}"


class Where(Protocol):
    """Where a row or a column went."""

    def get(self, number: int, default: int) -> int:
        """Its new number."""
        ...


# Per sheet ("" is the formula's own) where its rows and columns went, and what it is called now.
Places = Mapping[str, tuple[Where, Where, str]]


def follows(before: str, after: str, places: Places) -> bool:
    """True if ``after`` is what ``before`` becomes when rows and columns come and go around what it refers to."""
    return _moved(before, places) == _moved(after, {})


def _moved(formula: str, places: Places) -> str:
    return "".join(_moved_piece(p, places) for p in _tokens(formula.removeprefix("=")))


def _moved_piece(token: tuple[str, bool], places: Places) -> str:
    text, names_cells = token
    found = _RANGE.match(text) if names_cells else None
    if found is None:
        return text if text.startswith('"') else text.upper()
    sheet = (found["sheet"] or "").rstrip("!").strip("'").replace("''", "'")
    rows, columns, sheet = places.get(sheet, ({}, {}, sheet))

    def told(corner: re.Match[str]) -> str:
        column, row = column_number(corner[2]), int(corner[4])
        return f"{corner[1]}C{columns.get(column, column)}{corner[3]}R{rows.get(row, row)}"

    return f"{sheet}!{_REFERENCE.sub(told, found['rest'])}"
