"""A table of any size by pages: kept once as a columnar file, then read anywhere, sorted by columns and filtered.

The kept file has the row number ``r`` (from 1) and the cells ``c0``, ``c1`` … in groups of few rows, so that a page is
read without the rest of the file. What its columns are stands in the file's own key and value metadata (Apache Parquet
format, ``FileMetaData.key_value_metadata``). An order, that is the numbers of the rows that a filter leaves as they are
sorted, is kept in a file beside it when a page beyond the first rows is asked for: that one takes a look at all rows,
those after it do not. Of a large table first only its *beginning*: the rows whose values say that they come early.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import msgspec

from everyshelf.core.answers.tables import ROW_TESTS, ColumnFacts, ColumnType, TableRows
from everyshelf.core.errors import InvalidError
from everyshelf.core.tables.columns import NUMBERS, Column, Source
from everyshelf.core.tables.engine import Engine, literal
from everyshelf.core.tables.expressions import plain_text, shown

MOST_ROWS = 1_000  # of a page
_GROUP_ROWS = 16_384
_FIRST = 1_000  # rows of an order that are found without keeping it
_MOST_ORDERS = 20  # kept of one table
_LARGE = 500_000  # rows: those of a smaller table are put in order as quickly as some of them are found
_BEGINNING = 0.05  # of all rows: a page in it is found without putting all the others in order
_PLACES, _OF_EACH = 32, 1_024  # rows that are looked at to tell which values come early
_SPARE = 3  # times as many rows as are asked for are wanted of them, as they only tell about
_ABOUT = "everyshelf.columns"
# What a columnar file gives back as it was; all else is kept as its text.
_KEPT_AS_IS = frozenset(
    [
        "TINYINT",
        "SMALLINT",
        "INTEGER",
        "BIGINT",
        "UTINYINT",
        "USMALLINT",
        "UINTEGER",
        "UBIGINT",
        "FLOAT",
        "DOUBLE",
        "VARCHAR",
        "DATE",
        "TIME",
        "TIMESTAMP",
        "BOOLEAN",
        "BLOB",
    ]
) | {"TIMESTAMP WITH TIME ZONE"}


@dataclass(frozen=True)
class _Order:
    """What rows are sorted by."""

    value: str
    is_down: bool

    def __str__(self) -> str:
        return f"{self.value} {'DESC' if self.is_down else 'ASC'} NULLS LAST"


class _About(msgspec.Struct):
    columns: list[ColumnFacts]
    row_count: int


def keep_table(engine: Engine, source: Source, path: Path) -> int:
    """Write a table to ``path`` so that it can be paged; gives how many rows it has. Raises ``UnreadableError``."""
    cells, facts = [], []
    for place, column in enumerate(source.columns):
        is_kept = column.engine_type in _KEPT_AS_IS or column.engine_type.startswith("DECIMAL")
        cell = f"c{place}" if is_kept else f"{shown(column, f'c{place}')} AS c{place}"
        cells.append(cell)
        facts.append(
            ColumnFacts(
                name=column.name,
                engine_type=column.engine_type if is_kept else "VARCHAR",
                family=column.family,
                spelling=column.spelling if is_kept else "",
                declared=column.declared,
                said=column.told_type,
            )
        )
    about = msgspec.json.encode(_About(facts, source.row_count)).decode()
    part = _part_of(path)
    engine.run(
        f"COPY (SELECT {', '.join(['r', *cells])} FROM {source.relation}) TO {literal(str(part))} (FORMAT parquet, "
        f"COMPRESSION zstd, ROW_GROUP_SIZE {_GROUP_ROWS}, KV_METADATA {{{literal(_ABOUT)}: {literal(about)}}})"
    )
    part.replace(path)
    return source.row_count


def rows_of(
    engine: Engine, path: Path, start: int, count: int, *, sort: Sequence[str] = (), where: Sequence[str] = ()
) -> TableRows:
    """A page of a kept table, from its row ``start`` (from 0) in the order wanted.

    ``sort``: columns, the most important first; with a minus before the name the other way round. ``where``: conditions
    that all hold, each ``COLUMN TEST VALUE`` with a test of ``ROW_TESTS``. Cells that hold nothing come last. Raises
    ``InvalidError`` (rows.column, rows.condition) for what does not fit the table.
    """
    about = _about(engine, path)
    os.utime(path)
    columns = [Column(f.name, f.engine_type, f.family, f.spelling, f.declared, f.said) for f in about.columns]
    tests = [_condition(columns, condition) for condition in where]
    order = [_order(columns, name) for name in sort]
    count = min(count, MOST_ROWS)
    table = f"read_parquet([{literal(str(path))}], hive_partitioning=false)"
    if not tests and not order:
        total, numbers = about.row_count, list(range(start + 1, min(start + count, about.row_count) + 1))
        chosen = f"r BETWEEN {start + 1} AND {start + count}"
    else:
        total, numbers = _numbers(engine, path, table, order, tests, start, count)
        chosen = f"r IN ({', '.join(map(str, numbers))})" if numbers else "false"
    cells = ", ".join(f"CAST({shown(column, f'c{i}')} AS VARCHAR)" for i, column in enumerate(columns))
    found = {row[0]: row[1] for row in engine.rows(f"SELECT r, [{cells}] FROM {table} WHERE {chosen}")}
    return TableRows(
        columns=[ColumnType(name=column.name, type=column.told_type) for column in columns],
        rows=[found[number] for number in numbers],
        numbers=numbers,
        start=start,
        total=total,
        row_count=about.row_count,
    )


def columns_of(engine: Engine, path: Path) -> list[Column]:
    """The columns of a kept table, as its file says them."""
    facts = _about(engine, path).columns
    return [Column(f.name, f.engine_type, f.family, f.spelling, f.declared, f.said) for f in facts]


def _about(engine: Engine, path: Path) -> _About:
    query = f"SELECT decode(value) FROM parquet_kv_metadata({literal(str(path))}) WHERE decode(key) = {literal(_ABOUT)}"
    return msgspec.json.decode(engine.row(query)[0], type=_About)


def _numbers(
    engine: Engine, path: Path, table: str, order: list[_Order], tests: list[str], start: int, count: int
) -> tuple[int, list[int]]:
    """How many rows are left, and the numbers of those on the page; all of them are kept for the next page."""
    by = ", ".join([*map(str, order), "r"])
    asked = f"SELECT r FROM {table} WHERE {' AND '.join(tests) or 'true'} ORDER BY {by}"
    name = hashlib.sha256(asked.encode("utf-8", "surrogatepass")).hexdigest()[:32]
    kept = path.with_name(f"{path.name}.{name}")
    if order and not tests and not kept.exists():
        total = _about(engine, path).row_count
        if start + count <= _FIRST:
            # The first rows of an order are found without putting all the others in order.
            first = engine.rows(f"{asked} LIMIT {start + count}")
            return total, [int(number) for (number,) in first[start:]]
        beginning = kept.with_name(f"{kept.name}.first")
        if total >= _LARGE and _has_beginning(engine, path, beginning, table, order[0], by, total, start + count):
            return total, _kept_numbers(engine, beginning, start, count)
    if not kept.exists():
        _keep_order(engine, path, kept, asked)
    return _count_of(engine, kept), _kept_numbers(engine, kept, start, count)


def _keep_order(engine: Engine, path: Path, kept: Path, asked: str) -> None:
    part = _part_of(kept)
    engine.run(f"COPY ({asked}) TO {literal(str(part))} (FORMAT parquet, COMPRESSION zstd)")
    part.replace(kept)
    _drop_orders(path, kept)


def _has_beginning(
    engine: Engine, path: Path, kept: Path, table: str, first: _Order, by: str, total: int, reach: int
) -> bool:
    """Whether the first ``reach`` rows of an order are kept in ``kept``, made now if need be: those whose value lies
    before a border that some rows tell. Which rows these are decides how many are found, never which come first."""
    if kept.exists() and _count_of(engine, kept) >= reach:
        return True
    if reach > _BEGINNING * total:
        return False
    places = [1 + place * (total // _PLACES) for place in range(_PLACES)]
    some = " UNION ALL ".join(
        f"SELECT {first.value} AS v FROM {table} WHERE r BETWEEN {at} AND {at + _OF_EACH - 1}" for at in places
    )
    # Where equal values lie together, all of the first ones may lie at one place.
    share = _SPARE * reach / total + 1 / _PLACES
    engine.run(
        f"SET VARIABLE border = (SELECT quantile_disc(v, {1 - share if first.is_down else share}) FROM ({some}))"
    )
    sign = ">=" if first.is_down else "<="
    early = f"SELECT r FROM {table} WHERE {first.value} {sign} getvariable('border') ORDER BY {by}"
    _keep_order(engine, path, kept, early)
    return _count_of(engine, kept) >= reach


def _count_of(engine: Engine, kept: Path) -> int:
    return int(engine.row(f"SELECT count(*) FROM {_read(kept)}")[0])


def _kept_numbers(engine: Engine, kept: Path, start: int, count: int) -> list[int]:
    os.utime(kept)
    within = f"file_row_number >= {start} AND file_row_number < {start + count}"
    numbers = engine.rows(f"SELECT r FROM {_read(kept)} WHERE {within} ORDER BY file_row_number")
    return [int(number) for (number,) in numbers]


def _read(kept: Path) -> str:
    return f"read_parquet([{literal(str(kept))}], hive_partitioning=false, file_row_number=true)"


def _drop_orders(path: Path, newest: Path) -> None:
    """Remove the orders of a table that were asked for longest ago, until ``_MOST_ORDERS`` are left."""
    held = []
    for order in path.parent.glob(f"{path.name}.*"):
        if order.suffix == ".types":  # of its columns, and no order
            continue
        with contextlib.suppress(FileNotFoundError):  # another process may be dropping orders as well
            held.append((order.stat().st_mtime, order))
    for _, order in sorted(held)[:-_MOST_ORDERS]:
        if order != newest:
            order.unlink(missing_ok=True)


def _part_of(path: Path) -> Path:
    """A name beside ``path`` for what is being written; one a crash leaves makes room like a finished one."""
    return path.with_name(f"{path.name}.{uuid.uuid4().hex}.part")


def _order(columns: list[Column], wanted: str) -> _Order:
    names = [column.name for column in columns]
    down = wanted.startswith("-") and wanted not in names
    place = _place(names, wanted[1:] if down else wanted)
    return _Order(_value(columns[place], place), down)


def _place(names: list[str], name: str) -> int:
    if name not in names:
        said = ", ".join(names[:20])
        raise InvalidError(f"the table has no column {name!r}; it has {said}", code="rows.column")
    return names.index(name)


def _value(column: Column, place: int) -> str:
    """What cells are sorted and judged by: a number for numbers, however they are written."""
    if column.engine_type == "VARCHAR" and column.family in NUMBERS:
        return f"TRY_CAST({plain_text(column, f'c{place}')} AS DOUBLE)"
    return plain_text(column, f"c{place}") if column.engine_type == "VARCHAR" else f"c{place}"


def _condition(columns: list[Column], condition: str) -> str:
    names = [column.name for column in columns]
    # The longest name first: a column may be called as another one and a test are.
    fitting = [name for name in sorted(names, key=len, reverse=True) if condition.startswith(f"{name} ")]
    for name in fitting:
        rest = condition[len(name) + 1 :].strip()
        for test in ROW_TESTS:
            if rest == test or rest.startswith(f"{test} "):
                return _test(columns[names.index(name)], names.index(name), test, rest[len(test) :].strip())
    if not fitting and condition not in names:
        _place(names, condition.partition(" ")[0])
    tests = ", ".join(f"“{test}”" for test in ROW_TESTS)
    raise InvalidError(f"{condition!r} is not COLUMN TEST VALUE; tests: {tests}", code="rows.condition")


def _test(column: Column, place: int, test: str, value: str) -> str:
    cell, text = f"c{place}", f"CAST({shown(column, f'c{place}')} AS VARCHAR)"
    if test in ("is empty", "is not empty"):
        empty = f"({cell} IS NULL OR {text} = '')"
        return empty if test == "is empty" else f"NOT {empty}"
    if test == "contains":
        return f"contains(lower({text}), lower({literal(value)}))"
    if test in ("is", "is not"):
        same = f"{text} = {literal(value)}"
        if column.family in NUMBERS and _is_number(value):
            same = f"({same} OR {_value(column, place)} = {float(value)!r})"
        return same if test == "is" else f"NOT coalesce({same}, false)"
    sign = ">" if test == "over" else "<"
    if column.family in NUMBERS:
        if not _is_number(value):
            raise InvalidError(f"column {column.name} holds numbers, and {value!r} is none", code="rows.condition")
        return f"{_value(column, place)} {sign} {float(value)!r}"
    return f"{plain_text(column, cell)} {sign} {literal(value)}"


def _is_number(text: str) -> bool:
    try:
        number = float(text)
    except ValueError:
        return False
    return number == number and abs(number) != float("inf")
