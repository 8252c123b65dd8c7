"""The work of one part of a comparison that is spread over processes. Each piece opens what it needs itself and holds a
few million rows at most, so it can be done anywhere, and again where a process went down."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import pyarrow as pa
import pyarrow.compute as pc

from everyshelf.core.tables.engine import borrowed_engine
from everyshelf.core.tables.joining import join_rows
from everyshelf.core.tables.stretches import Stretch, opened


@dataclass(frozen=True)
class Cut:
    """How rows are told apart and shared out, as SQL for each row: ``keys``, ``rest`` (a hash of the other cells) and
    ``share`` (a hash that is the same for equal keys on both sides); ``shares``: into how many the rows go."""

    keys: tuple[str, ...]
    rest: str
    share: str
    shares: int


@dataclass(frozen=True)
class Part:
    """What a part found: how many rows of either table it had, how many have a partner, and which differ."""

    in_old: int
    in_new: int
    matched: int
    pairs: pa.Table


def shares_of(stretch: Stretch, cut: Cut) -> list[pa.Table]:
    """The rows of a stretch, in as many shares as there are parts: number, key, and a hash of the rest.

    Raises what ``stretches.opened`` raises.
    """
    with opened(stretch) as (engine, relation):
        keys = ", ".join(f"{key} AS k{n}" for n, key in enumerate(cut.keys))
        rows = engine.table(
            f"SELECT (hash({cut.share}) % {cut.shares})::USMALLINT AS share, r, {keys}, {cut.rest} AS h FROM {relation} t"
        )
    every = rows["share"]
    rows = rows.drop_columns(["share"])
    return [rows.filter(pc.equal(every, share)) for share in range(cut.shares)]


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
