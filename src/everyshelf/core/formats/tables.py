"""Delimited tables (CSV, RFC 4180, and its relatives): dialect, header and rows, as they are found.

Ragged rows are kept; nothing is dropped or filled in.
"""

from __future__ import annotations

import csv
import io
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.text import Decoded, decode

DELIMITERS = ",;\t|"
_SAMPLE_LINES = 200
_HEADER_ROWS = 50
_LEAST, _SURE = 0.6, 0.9  # share of the lines that a delimiter splits alike
csv.field_size_limit(64 * 1024 * 1024)


@dataclass(frozen=True)
class Table:
    """Column names and rows of text cells; ``dialect`` tells how they were written, which is layout."""

    columns: list[str]
    rows: list[tuple[str, ...]]
    dialect: dict[str, str] = field(default_factory=dict)
    header: bool = True
    preamble: list[str] = field(default_factory=list)

    @property
    def lines_before(self) -> int:
        """Lines above the first row."""
        return len(self.preamble) + (1 if self.header else 0)


def find_delimiter(text: str) -> str | None:
    """The delimiter that splits most of the first lines into the same number (over one) of cells, or None.

    One that splits the first line in the same way as most wins: commas inside texts are in no header. Of two that fit
    equally well a tab does, which hardly ever stands inside a cell.
    """
    sample = "\n".join(line for line in text.splitlines()[:_SAMPLE_LINES] if not line.startswith("#"))
    best: tuple[tuple[bool, float, bool, int], str] | None = None
    for delimiter in DELIMITERS:
        if delimiter not in sample:
            continue
        rows = [row for row in csv.reader(io.StringIO(sample), delimiter=delimiter) if row]
        widths = Counter(map(len, rows))
        width, count = max(widths.items(), key=lambda item: (item[1], item[0]))
        score = count / max(1, len(rows))
        rank = (score >= _SURE and len(rows[0]) == width, score, delimiter == "\t", width)
        if width > 1 and score >= _LEAST and (best is None or rank > best[0]):
            best = (rank, delimiter)
    return best[1] if best is not None else None


def is_comment(row: Sequence[str], width: int) -> bool:
    """True for a line that begins with ``#`` and is not a row of the table."""
    return bool(row) and row[0].startswith("#") and len(row) != width


def parse_table(data: bytes, *, delimiter: str | None = None) -> Table:
    """The table in ``data``; raises ``UnreadableError`` if it is no text or no delimiter fits."""
    return shape_rows(decode(data), delimiter=delimiter)


def shape_rows(decoded: Decoded, *, delimiter: str | None = None) -> Table:
    """As ``parse_table`` for a text that has been decoded: all of a file, or its first lines."""
    delimiter = delimiter or find_delimiter(decoded.text)
    if delimiter is None:
        if len(decoded.lines()) < 2:
            raise UnreadableError("no delimiter splits its lines into cells")
        delimiter = ","
    try:
        rows = [tuple(row) for row in csv.reader(io.StringIO(decoded.text, newline=""), delimiter=delimiter) if row]
    except csv.Error as error:
        raise UnreadableError(f"not readable as a table: {error}") from error
    return _shaped(rows, delimiter, decoded)


def _shaped(rows: list[tuple[str, ...]], delimiter: str, decoded: Decoded) -> Table:
    if not rows:
        raise UnreadableError("there is no row in it")
    width = Counter(len(row) for row in rows if not row[0].startswith("#")).most_common(1) or [(len(rows[0]), 1)]
    wide = width[0][0]
    start = _first_row(rows, wide)
    preamble = [delimiter.join(row) for row in rows[:start]]
    rows = [row for row in rows[start:] if not is_comment(row, wide)]
    header = _is_header(rows)
    names = [cell.strip() for cell in rows[0]] if header else [f"column {i + 1}" for i in range(wide)]
    dialect = {"delimiter": delimiter, "encoding": decoded.encoding, "newline": decoded.newline}
    return Table(unique_names(names), rows[1:] if header else rows, dialect, header, preamble)


def _first_row(rows: list[tuple[str, ...]], width: int) -> int:
    """Where the table begins: lines above it are a title, a count, units or comments, layout that is kept apart.

    A line of full width that begins with ``#`` is the header where none follows.
    """
    if len(rows) <= 2 and not rows[0][0].startswith("#"):
        return 0
    start = next((i for i, row in enumerate(rows) if len(row) == width and not row[0].startswith("#")), 0)
    above = rows[start - 1] if start else ()
    is_header = len(above) == width and above[0].startswith("#") and not _is_header(rows[start:])
    return start - 1 if is_header else start


def _is_header(rows: list[tuple[str, ...]]) -> bool:
    """A header holds no number, and repeats nothing unless the columns below hold what no name is."""
    first = rows[0]
    if any(_is_number(cell) for cell in first):
        return False
    if len(set(first)) < len(first):
        below = rows[1:_HEADER_ROWS]
        return any(below and all(n < len(row) and _is_number(row[n]) for row in below) for n in range(len(first)))
    return len(rows) > 1 or all(first)


def _is_number(text: str) -> bool:
    try:
        float(text.replace(",", "."))
    except ValueError:
        return False
    return True


def unique_names(names: list[str]) -> list[str]:
    """Every column under a name of its own: its number where it has none, told apart where one comes again."""
    seen: Counter[str] = Counter()
    result = []
    for place, given in enumerate(names):
        name = given or f"column {place + 1}"
        seen[name] += 1
        result.append(name if seen[name] == 1 else f"{name} ({seen[name]})")
    return result
