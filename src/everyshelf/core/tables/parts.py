"""The work of one part of a comparison that is spread over processes. Each piece opens what it needs itself and holds a
few million rows at most, so it can be done anywhere, and again where a process went down."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

import duckdb
import pyarrow as pa
import pyarrow.compute as pc

import everyshelf
from everyshelf.core.errors import UnreadableError
from everyshelf.core.tables.columnar import open_parquet
from everyshelf.core.tables.columns import Column
from everyshelf.core.tables.engine import borrowed_engine
from everyshelf.core.tables.given import Given
from everyshelf.core.tables.joining import join_rows

Bytes = tuple[int, int]  # of a file: the first, and the one after the last


class Handed(Protocol):
    """A file on its way to where a part is worked out."""

    def local(self, needed: Sequence[Bytes]) -> Path:
        """A path to the file; only the needed bytes of it have to be there."""


@dataclass(frozen=True)
class Stretch:
    """Rows of a Parquet file, from number ``low`` to ``high``, and the bytes that hold them.

    ``columns``: those that the file is known to have. SQL for each row: ``keys``, ``rest`` (a hash of the other cells)
    and ``share`` (a hash that is the same for equal keys on both sides); ``shares``: into how many the rows go. ``made_by``: see
    ``made_by``.
    """

    file: Handed
    needed: tuple[Bytes, ...]
    columns: tuple[Column, ...]
    low: int
    high: int
    keys: tuple[str, ...]
    rest: str
    share: str
    shares: int
    made_by: tuple[str, str]


@dataclass(frozen=True)
class Part:
    """What a part found: how many rows of either table it had, how many have a partner, and which differ."""

    in_old: int
    in_new: int
    matched: int
    pairs: pa.Table


def made_by() -> tuple[str, str]:
    """What hashes depend on: the versions of the engine and of this package."""
    return duckdb.__version__, everyshelf.__version__


def shares_of(stretch: Stretch) -> list[pa.Table]:
    """The rows of a stretch, in as many shares as there are parts: number, key, and a hash of the rest.

    Raises ``UnreadableError`` where the file is not the one that was meant, or this process has other versions.
    """
    if stretch.made_by != made_by():
        raise UnreadableError(f"a process has the versions {made_by()}, and the one that asks {stretch.made_by}")
    path = stretch.file.local(stretch.needed)
    with borrowed_engine() as engine:
        source = open_parquet(engine, Given(path.name, path=path))
        if tuple(source.columns) != stretch.columns:
            raise UnreadableError("the file has other columns than the one that is compared")
        keys = ", ".join(f"{key} AS k{n}" for n, key in enumerate(stretch.keys))
        rows = engine.table(
            f"SELECT (hash({stretch.share}) % {stretch.shares})::USMALLINT AS share, r, {keys}, {stretch.rest} AS h "
            f"FROM {source.relation} t WHERE r BETWEEN {stretch.low} AND {stretch.high}"
        )
    every = rows["share"]
    rows = rows.drop_columns(["share"])
    return [rows.filter(pc.equal(every, share)) for share in range(stretch.shares)]


def take_share(shares: list[pa.Table], share: int) -> pa.Table:
    """One share of a stretch: only that goes to the part that joins it."""
    return shares[share]


def join_share(old: Sequence[pa.Table], new: Sequence[pa.Table], keys: int) -> Part:
    """Join what both tables have in one share."""
    with borrowed_engine() as engine:
        names = []
        for tables in (old, new):
            names.append(engine.name("share"))
            engine.register(names[-1], pa.concat_tables(tables))
        found = join_rows(engine, names[0], names[1], keys)
        pairs = engine.table(f"SELECT ar, br FROM {found.pairs}")
        for name in names:
            engine.unregister(name)
    return Part(found.in_old, found.in_new, found.matched, pairs)
