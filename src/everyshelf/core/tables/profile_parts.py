"""What all rows of a large table say for its profile, worked out in stretches by other processes.

Each stretch gives the rows of the even share that the profile looks at closely, and counts, bounds and sums of all its
rows. How many different values a column has is estimated from the hashes of all values by HyperLogLog (Flajolet, Fusy,
Gandouet and Meunier 2007), whose registers of several stretches give those of all by their maximum.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from everyshelf.core.spreading import UnreachedError, told, use_for
from everyshelf.core.tables.columns import Source
from everyshelf.core.tables.engine import Engine
from everyshelf.core.tables.stretches import Stretch, opened, stretches_of

_BITS = 12  # 4,096 registers: a standard error of 1.6 %
_REGISTERS = 1 << _BITS
_ALPHA = 0.7213 / (1 + 1.079 / _REGISTERS)

Registers = NDArray[np.uint8]


@dataclass(frozen=True)
class Cells:
    """One column as a profile looks at it, as SQL: null where its cell is empty, its value or null, and the same value as
    a number where its bounds and its mean are asked for."""

    place: int
    filled: str
    value: str
    number: str | None


@dataclass(frozen=True)
class OfColumn:
    """What rows say of a column: how many cells are filled, how many different values there are (as registers), and of
    its numbers the least, the greatest, their sum and how many they are."""

    filled: int
    registers: Registers
    ends: tuple[float, float, float, int] | None

    def with_(self, other: OfColumn) -> OfColumn:
        """What the rows of both say."""
        ends = [one for one in (self.ends, other.ends) if one is not None]
        return OfColumn(
            self.filled + other.filled,
            np.maximum(self.registers, other.registers),
            (
                min(one[0] for one in ends),
                max(one[1] for one in ends),
                math.fsum(one[2] for one in ends),
                sum(one[3] for one in ends),
            )
            if ends
            else None,
        )

    @property
    def distinct(self) -> int:
        """The estimate of how many different values there are."""
        return estimated(self.registers)


@dataclass(frozen=True)
class RowsTold:
    """What rows say for a profile: ``columns`` by place, and those rows that it looks at closely."""

    rows: int
    columns: dict[int, OfColumn]
    share: pa.Table


def rows_told(stretch: Stretch, cells: Sequence[Cells], share: str) -> RowsTold:
    """What the rows of a stretch say (the work of one part). ``share``: SQL, true for rows to be looked at closely."""
    with opened(stretch) as (engine, rows_of):
        # Taken out once: each column is read by a query of its own, and only these rows may be there at all.
        relation = engine.name("stretch")
        engine.run(f"CREATE TEMP TABLE {relation} AS SELECT * FROM {rows_of}")
        counted = [f"count({one.filled})" for one in cells]
        for one in cells:
            x = one.number
            counted.append(f"[min({x}), max({x}), fsum({x})]" if x else "NULL")
            counted.append(f"count({x})" if x else "NULL")
        found = engine.row(f"SELECT count(*), {', '.join(counted) or 'NULL'} FROM {relation}")
        rows, filled, ends = int(found[0]), found[1 : len(cells) + 1], found[len(cells) + 1 :]
        columns = {
            one.place: OfColumn(
                int(filled[n]), registers_of(engine, relation, one.value), _ends(*ends[2 * n : 2 * n + 2])
            )
            for n, one in enumerate(cells)
        }
        return RowsTold(rows, columns, engine.table(f"SELECT * FROM {relation} WHERE {share}"))


def _ends(found: list[float] | None, count: int | None) -> tuple[float, float, float, int] | None:
    return (found[0], found[1], found[2], count) if found is not None and count else None


def registers_of(engine: Engine, relation: str, value: str) -> Registers:
    """The registers of the values of a relation that are not null."""
    registers = np.zeros(_REGISTERS, np.uint8)
    for batch in engine.batches(f"SELECT hash({value}) FROM {relation} WHERE ({value}) IS NOT NULL"):
        hashes = batch.column(0).to_numpy(zero_copy_only=False).astype(np.uint64, copy=False)
        # The first bits name the register; it takes the place of the first one among the others, from 1 on.
        rest = (hashes << np.uint64(_BITS)) >> np.uint64(_BITS)
        # ``frexp`` gives the number of bits of a whole number exactly, since these have fewer than 53.
        first = (64 - _BITS + 1) - np.frexp(rest.astype(np.float64))[1]
        np.maximum.at(registers, (hashes >> np.uint64(64 - _BITS)).astype(np.int64), first.astype(np.uint8))
    return registers


def estimated(registers: Registers) -> int:
    """How many different values there are; for few, from the registers that are empty (linear counting)."""
    estimate = float(_ALPHA * _REGISTERS**2 / np.sum(2.0 ** -registers.astype(np.float64)))
    empty = int(np.count_nonzero(registers == 0))
    if estimate <= 2.5 * _REGISTERS and empty:
        estimate = _REGISTERS * math.log(_REGISTERS / empty)
    return round(estimate)


def told_by_others(source: Source, cells: Sequence[Cells], share: str) -> RowsTold | None:
    """What all rows of a large table say, worked out by other processes; None where this one works alone."""
    use = use_for(source.row_count)
    if use is None or source.file is None or source.left_out:
        return None
    try:
        with use.opened() as spread:
            pending = [
                spread.submit(rows_told, stretch, tuple(cells), share) for stretch in stretches_of(spread, source)
            ]
            parts: list[RowsTold] = list(told(use, spread.as_done(pending), len(pending)))
    except UnreachedError as error:
        use.missed(str(error))
        return None
    if sum(part.rows for part in parts) != source.row_count:
        use.missed("the parts of a table have other rows than the whole")
        return None
    columns = parts[0].columns
    for part in parts[1:]:
        columns = {place: one.with_(part.columns[place]) for place, one in columns.items()}
    return RowsTold(source.row_count, columns, pa.concat_tables(part.share for part in parts))
