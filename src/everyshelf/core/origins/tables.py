"""What a version of a table carried over: only the rows that came, went or changed are written down, by their keys.

So what is kept of ten million rows is as large as what was changed in them. Rows lie in blocks, in the order of the
texts of their keys, so that one row of one version is found by reading one block.
"""

from __future__ import annotations

import csv
import io
import zlib
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Literal

import msgspec

from everyshelf.decoding import from_msgpack

_ROWS_OF_BLOCK = 200
_MOST_FIRST = 200  # letters of a key by which blocks are found
SEPARATOR = "\x1f"


class RowChange(msgspec.Struct, array_like=True):
    """What became of a row: its key as one text (cells joined by ``SEPARATOR``), and of a changed one the columns with
    their cells before and after."""

    key: str
    action: Literal["added", "removed", "changed"]
    columns: list[str] = []
    before: list[str | None] = []
    after: list[str | None] = []


class TableStep(msgspec.Struct, omit_defaults=True):
    """How one table became another. ``key``: the columns that tell its rows apart; ``columns``: all there are now;
    ``renamed``: new name -> old name; ``cells``: by column, how many changed; ``rows``: how many came, went and
    changed. ``whole``: the two have nothing in common, or too many rows differ to write them down."""

    key: list[str]
    columns: list[str]
    added: list[str] = []
    removed: list[str] = []
    renamed: dict[str, str] = {}
    cells: dict[str, int] = {}
    rows: tuple[int, int, int] = (0, 0, 0)
    whole: bool = False


class TablesStep(msgspec.Struct, omit_defaults=True):
    """How a table, or each table of a database by name, became another; ``whole``: it could not be read as that."""

    tables: dict[str, TableStep] = {}
    added: list[str] = []
    removed: list[str] = []
    whole: bool = False


class Block(msgspec.Struct, array_like=True):
    """Rows in a row, packed, with the beginnings of the first and the last key."""

    table: str
    first: str
    last: str
    rows: bytes


def blocks(table: str, rows: Iterable[RowChange]) -> Iterator[Block]:
    """Rows in the order of their keys, some at a time."""
    some: list[RowChange] = []
    for row in rows:
        some.append(row)
        if len(some) == _ROWS_OF_BLOCK:
            yield _block(table, some)
            some = []
    if some:
        yield _block(table, some)


def _block(table: str, rows: list[RowChange]) -> Block:
    data = zlib.compress(msgspec.msgpack.encode(rows), 6)
    return Block(table, beginning(rows[0].key), beginning(rows[-1].key), data)


def read_blocks(path: Path) -> Iterator[Block]:
    """The blocks of a file, each behind its length (8 bytes, big-endian)."""
    with path.open("rb") as file:
        while head := file.read(8):
            yield from_msgpack(file.read(int.from_bytes(head, "big")), Block)


def beginning(key: str) -> str:
    """As much of a key as blocks are found by."""
    return key[:_MOST_FIRST]


def row_in(data: bytes, key: str) -> RowChange | None:
    """The row of a block with that key."""
    rows = from_msgpack(zlib.decompress(data), list[RowChange])
    return next((row for row in rows if row.key == key), None)


def key_text(cells: list[str]) -> str:
    """The text of a key."""
    return SEPARATOR.join(cells)


def key_cells(text: str) -> list[str]:
    """The cells of a key as people write it: with commas between them, quoted where one holds a comma."""
    return next(csv.reader(io.StringIO(text)), [""])
