"""Delimited tables taken apart: records and cells as they are written, so that what is not touched stays as it is."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.tables import parse_table
from everyshelf.core.formats.text import decode

_LINE_END = re.compile(r"\r\n|\n|\r")


@dataclass
class RawTable:
    """Lines above the table, its header as written (None without one), its records, and how they are written.

    ``ending`` is what follows the last record. Every record has as many cells as there are columns.
    """

    above: list[str]
    header: str | None
    columns: list[str]
    records: list[str]
    delimiter: str
    newline: str
    ending: str
    encoding: str
    mark: bool

    def cells(self, record: str) -> list[str]:
        """The cells of a record as they are written, quotes and all."""
        return split_record(record, self.delimiter)

    def written(self, value: str) -> str:
        """A value as a cell."""
        if any(sign in value for sign in (self.delimiter, '"', "\n", "\r")):
            return '"' + value.replace('"', '""') + '"'
        return value


def raw_table(data: bytes) -> RawTable:
    """The table in ``data``; raises ``UnreadableError`` where its lines do not all have the same columns."""
    shaped = parse_table(data)
    decoded = decode(data)
    text = decoded.text
    newline = decoded.newline
    if len(set(_LINE_END.findall(text))) > 1 and '"' not in text:
        raise UnreadableError("its lines end in different ways")
    body = text.rstrip("\r\n")
    ending = text[len(body) :]
    if ending not in ("", newline):
        raise UnreadableError("there are empty lines below the table")
    records = _records(body, newline)
    above = len(shaped.preamble)
    header = records[above] if shaped.header else None
    rows = records[above + (1 if shaped.header else 0) :]
    width, delimiter = len(shaped.columns), shaped.dialect["delimiter"]
    if len(rows) != len(shaped.rows) or any(len(row) != width for row in shaped.rows):
        raise UnreadableError("its lines do not all have the same columns")
    return RawTable(
        records[:above],
        header,
        list(shaped.columns),
        rows,
        delimiter,
        newline,
        ending,
        decoded.encoding,
        decoded.mark,
    )


def _records(body: str, newline: str) -> list[str]:
    lines = body.split(newline)
    if '"' not in body:
        return lines
    records: list[str] = []
    held: list[str] = []
    is_open = False
    for line in lines:
        held.append(line)
        if line.count('"') % 2:
            is_open = not is_open
        if not is_open:
            records.append(newline.join(held))
            held = []
    if held:
        raise UnreadableError("a quoted cell does not end")
    return records


def split_record(record: str, delimiter: str) -> list[str]:
    """The cells of a record as they are written."""
    if '"' not in record:
        return record.split(delimiter)
    cell = _cell(delimiter)
    cells, at = [], 0
    while True:
        match = cell.match(record, at)
        assert match is not None
        cells.append(match[0])
        at = match.end()
        if at >= len(record):
            return cells
        at += len(delimiter)
        if at == len(record):
            return [*cells, ""]


@lru_cache(8)
def _cell(delimiter: str) -> re.Pattern[str]:
    other = f"[^{re.escape(delimiter)}]*"
    return re.compile(f'"(?:[^"]|"")*"{other}|{other}', re.DOTALL)


def meaning(cell: str) -> str:
    """What a written cell says."""
    if cell[:1] == '"' and cell[-1:] == '"' and len(cell) > 1:
        return cell[1:-1].replace('""', '"')
    return cell
