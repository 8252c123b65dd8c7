"""A Parquet file cut into stretches of whole row groups, each of which another process can read by itself."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import duckdb

import everyshelf
from everyshelf.core.errors import UnreadableError
from everyshelf.core.spreading import Bytes, Handed, Spread
from everyshelf.core.tables.columnar import open_parquet
from everyshelf.core.tables.columns import Column, Source
from everyshelf.core.tables.engine import Engine, borrowed_engine
from everyshelf.core.tables.given import Given

_STRETCH_ROWS = 2_000_000


@dataclass(frozen=True)
class Stretch:
    """Rows of a Parquet file, from number ``low`` to ``high``, and the bytes that hold them. ``columns``: those that the
    file is known to have. ``made_by``: see there."""

    file: Handed
    needed: tuple[Bytes, ...]
    columns: tuple[Column, ...]
    low: int
    high: int
    made_by: tuple[str, str]


def made_by() -> tuple[str, str]:
    """What hashes depend on: the versions of the engine and of this package."""
    return duckdb.__version__, everyshelf.__version__


def stretches_of(spread: Spread, source: Source) -> list[Stretch]:
    """All rows of a table that is one Parquet file, for the processes of ``spread``."""
    assert source.file is not None
    handed, columns = spread.hand_over(source.file), tuple(source.columns)
    return [Stretch(handed, needed, columns, low, high, made_by()) for low, high, needed in row_stretches(source.file)]


@contextlib.contextmanager
def opened(stretch: Stretch) -> Iterator[tuple[Engine, str]]:
    """An engine, and the rows of the stretch as a relation in it, in the form of ``Source.relation``.

    Raises ``UnreadableError`` where the file is not the one that was meant, or this process has other versions.
    """
    if stretch.made_by != made_by():
        raise UnreadableError(f"a process has the versions {made_by()}, and the one that asks {stretch.made_by}")
    path = stretch.file.local(stretch.needed)
    with borrowed_engine() as engine:
        source = open_parquet(engine, Given(path.name, path=path))
        if tuple(source.columns) != stretch.columns:
            raise UnreadableError("the file has other columns than the one that is meant")
        yield engine, f"(SELECT * FROM {source.relation} WHERE r BETWEEN {stretch.low} AND {stretch.high})"


def row_stretches(path: Path) -> Iterator[tuple[int, int, tuple[Bytes, ...]]]:
    """The first and last row of each stretch of whole row groups, with the bytes of the file that hold it and those that
    say how to read it."""
    import pyarrow.parquet as pq  # slow to load, and few files need it

    footer, size = pq.read_metadata(path), path.stat().st_size
    said = (size - footer.serialized_size - 8, size)  # Apache Parquet format: footer, its length, four letters
    low, rows, start, end = 1, 0, size, 0
    for n in range(footer.num_row_groups):
        group = footer.row_group(n)
        chunks = [group.column(place) for place in range(group.num_columns)]
        for chunk in chunks:
            first = min(o for o in (chunk.dictionary_page_offset, chunk.data_page_offset) if o)
            start, end = min(start, first), max(end, first + chunk.total_compressed_size)
        rows += group.num_rows
        if rows >= _STRETCH_ROWS or n == footer.num_row_groups - 1:
            yield low, low + rows - 1, ((0, 4), (start, end), said)
            low, rows, start, end = low + rows, 0, size, 0
