"""How rows are laid out: in columns, as wide as the terminal; in a pipe or a file nothing is cut.

A ``Listing`` collects its rows and prints them together, because how much room a path has depends on the others:

1. Each column is as wide as its widest cell, and starts no further left than its place.
2. If that is wider than the terminal, the columns move together, then texts shrink, then paths; paths are shortened in
   the middle, so that file name and first folder stay, and no two different paths of a listing look alike.
3. A last column that may wrap goes on below itself.
4. Where not even the least widths fit, the cells after the path go on a line of their own below it.
"""

from __future__ import annotations

import shutil
import sys
import unicodedata
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field

import click

_LEAST_PATH, _LEAST_TEXT, _LEAST_WRAPPED = 20, 12, 24
_BELOW = 4  # how far to the right of its start a row goes on if it does not fit
Style = Callable[[str], str]
Cell = tuple[str, Style]


def width() -> int | None:
    """Columns of the terminal that standard output is; None for a pipe or a file."""
    return max(40, shutil.get_terminal_size().columns) if sys.stdout.isatty() else None


def width_of(text: str) -> int:
    """Columns a text takes on a terminal (Unicode TR 11: wide characters take two)."""
    plain = click.unstyle(text)
    if plain.isascii():
        return len(plain)
    return sum(0 if unicodedata.combining(c) else 2 if unicodedata.east_asian_width(c) in "WF" else 1 for c in plain)


def one_line(text: str) -> str:
    """A text without line breaks and runs of spaces."""
    return " ".join(text.split())


def cut(text: str, room: int | None) -> str:
    """A text on one line in at most ``room`` columns, the end left out if need be; None: all of it."""
    text = one_line(text)
    if room is None or width_of(text) <= room:
        return text
    return _head(text, room - 1) + "…"


def _head(text: str, room: int) -> str:
    kept, taken = "", 0
    for character in text:
        taken += width_of(character)
        if taken > room:
            break
        kept += character
    return kept


def shorten_path(path: str, room: int) -> str:
    """A path in at most ``room`` columns: the middle is left out, then, if need be, the middle of the file name."""
    if width_of(path) <= room:
        return path
    folder, _, name = path.rpartition("/")
    first = folder.partition("/")[0]
    if first and width_of(first) + width_of(name) + 3 <= room:
        inner = path.split("/")[1:-1]
        left = room - width_of(first) - width_of(name) - 3
        kept: list[str] = []
        while inner and left >= width_of(inner[-1]) + 1:
            left -= width_of(inner[-1]) + 1
            kept.insert(0, inner.pop())
        return "/".join([first, "…", *kept, name])
    if width_of(name) + 2 <= room:
        return f"…/{name}"
    front = (room - 1) // 3
    return f"{_head(name, front)}…{_tail(name, room - 1 - front)}"


def _tail(text: str, room: int) -> str:
    return _head(text[::-1], room)[::-1] if room > 0 else ""


def shorten_paths(paths: list[str], room: int) -> dict[str, str]:
    """Each path in at most ``room`` columns, no two different ones alike; those that would be stay as they are."""
    wanted = set(paths)
    shown = {path: shorten_path(path, room) for path in wanted}
    alike = Counter(shown.values())
    endings = Counter(ending for path in wanted for ending in _endings(path)) if len(alike) < len(wanted) else Counter()
    for path in wanted:
        if alike[shown[path]] > 1:
            shown[path] = _by_ending(path, endings, room)
    alike = Counter(shown.values())
    return {path: path if alike[text] > 1 else text for path, text in shown.items()}


def _endings(path: str) -> list[str]:
    """What a path ends with, by whole folders, shortest first."""
    parts = path.split("/")
    return ["/" + "/".join(parts[-count:]) for count in range(1, len(parts))]


def _by_ending(path: str, endings: Counter[str], room: int) -> str:
    """The shortest ending of a path that no other has."""
    for ending in _endings(path):
        if endings[ending] == 1:
            return f"…{ending}" if width_of(ending) < room else path
    return path


def wrapped(text: str, room: int | None) -> list[str]:
    """A text, perhaps styled, as lines of at most ``room`` columns, broken at spaces; None: one line."""
    if room is None or width_of(text) <= room:
        return [text]
    lines, current = [], ""
    for word in text.split(" "):
        if current and width_of(current) + 1 + width_of(word) > room:
            lines.append(current.rstrip())
            current = ""
        while not current and width_of(word) > room and word == click.unstyle(word):
            head = _head(word, room)
            lines.append(head)
            word = word[len(head) :]  # noqa: PLW2901
        current = f"{current} {word}" if current else word
    return [*lines, current.rstrip()] if current.strip() or not lines else lines


def line(*cells: tuple[int, str]) -> str:
    """Cells at their columns; a cell that is too long pushes the rest by one space."""
    result = ""
    for column, text in cells:
        gap = column - width_of(result)
        result += " " * max(gap, 1 if result else column) + text if gap > 0 or result else text
    return result.rstrip()


@dataclass(frozen=True)
class Column:
    """A column: where it starts at the earliest, and what may happen to its cells if the terminal is too narrow."""

    start: int
    path: bool = False
    text: bool = False
    wrap: bool = False
    right: bool = False

    @property
    def least(self) -> int | None:
        """How narrow it may become; None: not at all."""
        return _LEAST_PATH if self.path else _LEAST_WRAPPED if self.wrap else _LEAST_TEXT if self.text else None


@dataclass
class Listing:
    """Rows that are laid out together. A cell is a text, or a text and its style; a styled text is never shortened."""

    columns: tuple[Column, ...]
    rows: list[list[Cell]] = field(default_factory=list)
    below: dict[int, list[str]] = field(default_factory=dict)
    together: bool = False

    def row(self, *cells: str | Cell) -> None:
        """Add a row; cells at the end may be left out."""
        self.rows.append([cell if isinstance(cell, tuple) else (cell, _plain) for cell in cells])

    def under(self, text: str) -> None:
        """Add a whole line below the last row, or above the first one."""
        self.below.setdefault(len(self.rows) - 1, []).append(text)

    def show(self) -> None:
        """Print all rows."""
        for more in self.below.get(-1, ()):
            click.echo(more)
        for number, text in enumerate(self.lines(width())):
            click.echo(text)
            for more in self.below.get(number, ()):
                click.echo(more)

    def lines(self, room: int | None) -> list[str]:
        """The rows as text, each perhaps of several lines, for a terminal of ``room`` columns or none."""
        widths = self._natural()
        if room is None:
            return [self._line(row, widths, None) for row in self.rows]
        if not self._shrink(widths, room):
            return self._stacked(room)
        return [self._line(row, widths, room) for row in self._shortened(widths)]

    def _natural(self) -> list[int]:
        return [
            max((width_of(row[k][0]) for row in self.rows if k < len(row)), default=0) for k in range(len(self.columns))
        ]

    def _starts(self, widths: list[int]) -> list[int]:
        starts: list[int] = []
        end = 0
        for column, wide in zip(self.columns, widths, strict=True):
            free = column.start > end and not (self.together and end)
            start = column.start if free else end + 2
            starts.append(start)
            end = start + wide if wide else end
        return starts

    def _end(self, widths: list[int]) -> int:
        return max((start + wide for start, wide in zip(self._starts(widths), widths, strict=True)), default=0)

    def _shrink(self, widths: list[int], room: int) -> bool:
        """Make columns narrower until all fit; False if they cannot."""
        self.together = False
        self.together = self._end(widths) > room
        order = [c for c in self.columns if c.wrap] + [c for c in self.columns if c.text and not c.wrap]
        for column in (*order, *(c for c in self.columns if c.path)):
            place = self.columns.index(column)
            over = self._end(widths) - room
            if over > 0 and column.least is not None:
                widths[place] = max(min(column.least, widths[place]), widths[place] - over)
        return self._end(widths) <= room

    def _shortened(self, widths: list[int]) -> list[list[Cell]]:
        rows = [list(row) for row in self.rows]
        for place, column in enumerate(self.columns):
            cells = [row[place][0] for row in rows if place < len(row)]
            shown = shorten_paths(cells, widths[place]) if column.path else {}
            for row in rows:
                if place < len(row) and (column.path or column.text):
                    text, style = row[place]
                    row[place] = shown[text] if column.path else cut(text, widths[place]), style
        return rows

    def _line(self, row: list[Cell], widths: list[int], room: int | None) -> str:
        result = ""
        more: list[str] = []
        for (text, style), column, start, wide in zip(row, self.columns, self._starts(widths), widths, strict=False):
            if not text:
                continue
            gap = max(start - width_of(result), 1 if result else 0)
            left = None if room is None else max(_LEAST_TEXT, room - width_of(result) - gap)
            first, *rest = wrapped(text, left) if column.wrap else [text]
            more = [" " * (width_of(result) + gap) + style(one) for one in rest] if column.wrap else more
            pad = " " * (wide - width_of(first)) if column.right else ""
            result += " " * gap + pad + style(first)
        return "\n".join([result.rstrip(), *more])

    def _stacked(self, room: int) -> list[str]:
        """Each row up to its path, and what follows on lines below."""
        at = next((k for k, c in enumerate(self.columns) if c.path), 0)
        head = Listing(self.columns[: at + 1], [row[: at + 1] for row in self.rows])
        widths = head._natural()
        head._shrink(widths, room)
        tops = [head._line(row, widths, room) for row in head._shortened(widths)]
        told = []
        indent = self.columns[0].start + _BELOW
        for top, row in zip(tops, self.rows, strict=True):
            rest = "  ".join(style(one_line(text)) for text, style in row[at + 1 :] if text)
            lines = [" " * indent + one for one in wrapped(rest, room - indent)] if rest else []
            told.append("\n".join([top, *lines]))
        return told


def _plain(text: str) -> str:
    return text
