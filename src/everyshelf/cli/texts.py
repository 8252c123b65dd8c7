"""Cells of a table as lines of text: columns under each other, as many as a line has room for."""

from __future__ import annotations

from collections.abc import Sequence

from everyshelf.cli import terminal

_WIDEST, _ROOM = 28, 100


def cut(text: str | None, widest: int = _WIDEST) -> str:
    """A cell on one line, shortened where it is long; nothing there is empty."""
    said = "" if text is None else text.replace("\r", " ").replace("\n", " ")
    return said if len(said) <= widest else f"{said[: widest - 1]}…"


def fitting(names: Sequence[str]) -> str:
    """Names one after the other, as far as the terminal is wide."""
    return terminal.fit(", ".join(names), 13)


def places_for(wide: Sequence[int], lead: int) -> list[int]:
    """The places of the first columns that a line has room for behind ``lead`` letters; at least one."""
    places: list[int] = []
    used = lead
    for place, width in enumerate(wide):
        used += width + 2
        if used > _ROOM and places:
            break
        places.append(place)
    return places


def line_of(cells: Sequence[str], wide: Sequence[int], numeric: Sequence[bool]) -> str:
    """Cells in their columns, numbers to the right."""
    told = [
        cell.rjust(width) if number else cell.ljust(width)
        for cell, width, number in zip(cells, wide, numeric, strict=True)
    ]
    return "  ".join(told).rstrip()


def told_in_columns(
    names: Sequence[str], rows: Sequence[Sequence[str | None]], numeric: Sequence[bool]
) -> tuple[list[int], list[str]]:
    """The places of the columns that are shown, and the lines: the head first."""
    cells = [[cut(name) for name in names], *([cut(cell) for cell in row] for row in rows)]
    wide = [max((len(row[place]) for row in cells), default=0) for place in range(len(names))]
    places = places_for(wide, 2)
    fits, sides = [wide[i] for i in places], [numeric[i] for i in places]
    lines = ["  " + line_of([row[i] for i in places], fits, sides) for row in cells]
    return places, lines
