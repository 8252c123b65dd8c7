"""Orders of a kept table (``paging``): the numbers of the rows that a filter leaves, as they are sorted.

An order is kept in a file beside the table when a page beyond the first rows is asked for: that one takes a look at all
rows, those after it do not. Of a large table first only its *beginning*: the rows whose values say that they come
early. Which values do is told by a sample of the rows, which is kept beside the table, too.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from everyshelf.core.tables.engine import Engine, literal

LARGE = 500_000  # rows: those of a smaller table are put in order as quickly as some of them are found
_FIRST = 1_000  # rows of an order that are found without keeping it
_MOST_ORDERS = 20  # kept of one table
_BEGINNING = 0.05  # of all rows: a page in it is found without putting all the others in order
_SAMPLE_ROWS, _SAMPLE_CELLS = 32_768, 1_000_000  # at most
_SAMPLE_LETTERS = 64  # of a text: enough to tell which come early
_SPARE = 3  # times as many rows as are asked for are wanted of them, as they only tell about
_SAMPLE = ".sample"
_NO_ORDERS = frozenset([".types", _SAMPLE])  # what else lies beside a table


@dataclass(frozen=True)
class Value:
    """What the cells of a column are sorted by, in the engine's language."""

    sql: str
    is_text: bool = False


@dataclass(frozen=True)
class Order:
    """What rows are sorted by."""

    value: Value
    is_down: bool

    def __str__(self) -> str:
        return f"{self.value.sql} {'DESC' if self.is_down else 'ASC'} NULLS LAST"


@dataclass(frozen=True)
class Asked:
    """What is wanted of a table: an order, conditions that hold, and ``count`` rows of it from ``start`` (from 0)."""

    order: list[Order]
    tests: list[str]
    start: int
    count: int

    @property
    def reach(self) -> int:
        """How many rows of the order come before the end of what is wanted."""
        return self.start + self.count


def numbers_in_order(
    engine: Engine, path: Path, row_count: int, values: Sequence[Value], asked: Asked
) -> tuple[int, list[int]]:
    """How many rows of the table kept at ``path`` are left, and the numbers of those that are wanted; the order is kept
    for the next page. ``values``: what each column is sorted by."""
    by = ", ".join([*map(str, asked.order), "r"])
    sorted_rows = f"SELECT r FROM {read(path)} WHERE {' AND '.join(asked.tests) or 'true'} ORDER BY {by}"
    name = hashlib.sha256(sorted_rows.encode("utf-8", "surrogatepass")).hexdigest()[:32]
    kept = path.with_name(f"{path.name}.{name}")
    if asked.order and not asked.tests and not kept.exists():
        if asked.reach <= _FIRST:
            # The first rows of an order are found without putting all the others in order.
            first = engine.rows(f"{sorted_rows} LIMIT {asked.reach}")
            return row_count, [int(number) for (number,) in first[asked.start :]]
        beginning = kept.with_name(f"{kept.name}.first")
        if row_count >= LARGE and _has_beginning(engine, path, beginning, by, row_count, values, asked):
            return row_count, _kept_numbers(engine, beginning, asked)
    if not kept.exists():
        _keep_order(engine, path, kept, sorted_rows)
    return _count_of(engine, kept), _kept_numbers(engine, kept, asked)


def keep_sample(engine: Engine, path: Path, values: Sequence[Value], row_count: int) -> Path:
    """Write some rows of a table beside it, each column as what it is sorted by; a text as its beginning."""
    sample = path.with_name(f"{path.name}{_SAMPLE}")
    rows = min(_SAMPLE_ROWS, _SAMPLE_CELLS // max(1, len(values)))
    # By a hash of their numbers: rows at equal distances may be of one sort.
    chosen = f"hash(r) % {max(1, row_count // max(1, rows))} = 0"
    cells = [f"{_beginning_of(value)} AS s{place}" for place, value in enumerate(values)]
    part = part_of(sample)
    engine.run(
        f"COPY (SELECT {', '.join(cells) or 'r'} FROM {read(path)} WHERE {chosen}) TO {literal(str(part))} "
        "(FORMAT parquet, COMPRESSION zstd)"
    )
    part.replace(sample)
    return sample


def _beginning_of(value: Value) -> str:
    return f"left({value.sql}, {_SAMPLE_LETTERS})" if value.is_text else value.sql


def _keep_order(engine: Engine, path: Path, kept: Path, asked: str) -> None:
    part = part_of(kept)
    engine.run(f"COPY ({asked}) TO {literal(str(part))} (FORMAT parquet, COMPRESSION zstd)")
    part.replace(kept)
    _drop_orders(path, kept)


def _has_beginning(
    engine: Engine, path: Path, kept: Path, by: str, row_count: int, values: Sequence[Value], asked: Asked
) -> bool:
    """Whether the first rows of an order, as far as it is asked for, are kept in ``kept``, made now if need be: those
    whose value lies before a border that the sample tells. It decides how many are found, never which come first."""
    if kept.exists() and _count_of(engine, kept) >= asked.reach:
        return True
    if asked.reach > _BEGINNING * row_count:
        return False
    first = asked.order[0]
    sample = path.with_name(f"{path.name}{_SAMPLE}")
    if not sample.exists():
        keep_sample(engine, path, values, row_count)
    share = min(1.0, _SPARE * asked.reach / row_count)
    border = f"quantile_disc(s{values.index(first.value)}, {1 - share if first.is_down else share})"
    engine.run(f"SET VARIABLE border = (SELECT {border} FROM {read(sample)})")
    sign = ">=" if first.is_down else "<="
    early = f"SELECT r FROM {read(path)} WHERE {first.value.sql} {sign} getvariable('border') ORDER BY {by}"
    _keep_order(engine, path, kept, early)
    return _count_of(engine, kept) >= asked.reach


def _count_of(engine: Engine, kept: Path) -> int:
    return int(engine.row(f"SELECT count(*) FROM {_read_numbered(kept)}")[0])


def _kept_numbers(engine: Engine, kept: Path, asked: Asked) -> list[int]:
    os.utime(kept)
    within = f"file_row_number >= {asked.start} AND file_row_number < {asked.reach}"
    numbers = engine.rows(f"SELECT r FROM {_read_numbered(kept)} WHERE {within} ORDER BY file_row_number")
    return [int(number) for (number,) in numbers]


def read(file: Path) -> str:
    """A kept file as the engine reads it."""
    return f"read_parquet([{literal(str(file))}], hive_partitioning=false)"


def _read_numbered(kept: Path) -> str:
    return f"read_parquet([{literal(str(kept))}], hive_partitioning=false, file_row_number=true)"


def _drop_orders(path: Path, newest: Path) -> None:
    """Remove the orders of a table that were asked for longest ago, until ``_MOST_ORDERS`` are left."""
    held = []
    for order in path.parent.glob(f"{path.name}.*"):
        if order.suffix in _NO_ORDERS:
            continue
        with contextlib.suppress(FileNotFoundError):  # another process may be dropping orders as well
            held.append((order.stat().st_mtime, order))
    for _, order in sorted(held)[:-_MOST_ORDERS]:
        if order != newest:
            order.unlink(missing_ok=True)


def part_of(path: Path) -> Path:
    """A name beside ``path`` for what is being written; one a crash leaves makes room like a finished one."""
    return path.with_name(f"{path.name}.{uuid.uuid4().hex}.part")
