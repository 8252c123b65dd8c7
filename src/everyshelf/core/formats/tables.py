"""Delimited tables (CSV, RFC 4180, and its relatives): dialect, header and rows, as they are found.

Ragged rows are kept; nothing is dropped or filled in.
"""

from __future__ import annotations

import csv
import io
from collections import Counter
from dataclasses import dataclass, field

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.text import Decoded, decode

DELIMITERS = ",;\t|"
_SAMPLE_LINES = 200
_HEADER_ROWS = 50
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
    """The delimiter that splits most of the first lines into the same number (over one) of cells, or None."""
    sample = "\n".join(text.splitlines()[:_SAMPLE_LINES])
    best: tuple[float, int, str] | None = None
    for delimiter in DELIMITERS:
        if delimiter not in sample:
            continue
        widths = Counter(len(row) for row in csv.reader(io.StringIO(sample), delimiter=delimiter) if row)
        width, count = max(widths.items(), key=lambda item: (item[1], item[0]))
        score = count / max(1, sum(widths.values()))
        if width > 1 and (best is None or (score, width) > best[:2]):
            best = (score, width, delimiter)
    return best[2] if best is not None and best[0] >= 0.6 else None


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
    width = Counter(len(row) for row in rows).most_common(1)[0][0]
    # Lines before the first one of full width are a title, a count or units: layout that is kept apart.
    start = next(i for i, row in enumerate(rows) if len(row) == width) if len(rows) > 2 else 0
    preamble = [delimiter.join(row) for row in rows[:start]]
    rows = rows[start:]
    header = _is_header(rows)
    names = [cell.strip() for cell in rows[0]] if header else [f"column {i + 1}" for i in range(width)]
    dialect = {"delimiter": delimiter, "encoding": decoded.encoding, "newline": decoded.newline}
    return Table(unique_names(names), rows[1:] if header else rows, dialect, header, preamble)


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
