"""A table of any size by pages: kept once as a columnar file, then read anywhere, sorted by columns and filtered.

The kept file has the row number ``r`` (from 1) and the cells ``c0``, ``c1`` … in groups of few rows, so that a page is
read without the rest of the file. Numbers that the table writes as text have their value beside them, ``v0``, ``v1`` …,
so that they are read from text once and not for each order. What the columns are is said in the file's own key and
value metadata (Apache Parquet format, ``FileMetaData.key_value_metadata``). Orders are kept beside it (``orders``).
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path

import msgspec

from everyshelf.core.answers.tables import ROW_TESTS, ColumnFacts, ColumnType, TableRows
from everyshelf.core.errors import InvalidError
from everyshelf.core.tables.columns import NUMBERS, Column, Source
from everyshelf.core.tables.engine import Engine, literal
from everyshelf.core.tables.expressions import plain_text, shown
from everyshelf.core.tables.orders import LARGE, Asked, Order, Value, keep_sample, numbers_in_order, part_of, read
from everyshelf.decoding import from_json

MOST_ROWS = 1_000  # of a page
_GROUP_ROWS = 16_384
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


class _About(msgspec.Struct):
    columns: list[ColumnFacts]
    row_count: int
    valued: list[int] = []  # places of columns that have their value beside them


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
    kept = list(map(_column_of, facts))
    valued = [place for place, column in enumerate(kept) if _is_written_number(column)]
    values = [f"{_read_as_number(kept[place], place)} AS v{place}" for place in valued]
    about = msgspec.json.encode(_About(facts, source.row_count, valued)).decode()
    part = part_of(path)
    rows = f"SELECT {', '.join(['r', *cells])} FROM {source.relation}"
    engine.run(
        f"COPY (SELECT {', '.join(['*', *values])} FROM ({rows})) TO {literal(str(part))} (FORMAT parquet, "
        f"COMPRESSION zstd, ROW_GROUP_SIZE {_GROUP_ROWS}, KV_METADATA {{{literal(_ABOUT)}: {literal(about)}}})"
    )
    part.replace(path)
    if source.row_count >= LARGE:
        keep_sample(engine, path, _values(kept, valued), source.row_count)
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
    columns = list(map(_column_of, about.columns))
    values = _values(columns, about.valued)
    tests = [_condition(columns, values, condition) for condition in where]
    order = [_order(columns, values, name) for name in sort]
    count = min(count, MOST_ROWS)
    table = read(path)
    if not tests and not order:
        total, numbers = about.row_count, list(range(start + 1, min(start + count, about.row_count) + 1))
        chosen = f"r BETWEEN {start + 1} AND {start + count}"
    else:
        asked = Asked(order, tests, start, count)
        total, numbers = numbers_in_order(engine, path, about.row_count, values, asked)
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
    return list(map(_column_of, _about(engine, path).columns))


def _column_of(facts: ColumnFacts) -> Column:
    return Column(facts.name, facts.engine_type, facts.family, facts.spelling, facts.declared, facts.said)


def _about(engine: Engine, path: Path) -> _About:
    query = f"SELECT decode(value) FROM parquet_kv_metadata({literal(str(path))}) WHERE decode(key) = {literal(_ABOUT)}"
    return from_json(engine.row(query)[0], _About)


def _order(columns: list[Column], values: list[Value], wanted: str) -> Order:
    names = [column.name for column in columns]
    down = wanted.startswith("-") and wanted not in names
    return Order(values[_place(names, wanted[1:] if down else wanted)], down)


def _place(names: list[str], name: str) -> int:
    if name not in names:
        said = ", ".join(names[:20])
        raise InvalidError(f"the table has no column {name!r}; it has {said}", code="rows.column")
    return names.index(name)


def _values(columns: list[Column], beside: list[int]) -> list[Value]:
    return [_value(column, place, place in beside) for place, column in enumerate(columns)]


def _value(column: Column, place: int, is_beside: bool) -> Value:
    """What cells are sorted and judged by: a number for numbers, however they are written."""
    if _is_written_number(column):
        return Value(f"v{place}" if is_beside else _read_as_number(column, place))
    if column.engine_type == "VARCHAR":
        return Value(plain_text(column, f"c{place}"), is_text=True)
    return Value(f"c{place}")


def _is_written_number(column: Column) -> bool:
    return column.engine_type == "VARCHAR" and column.family in NUMBERS


def _read_as_number(column: Column, place: int) -> str:
    return f"TRY_CAST({plain_text(column, f'c{place}')} AS DOUBLE)"


def _condition(columns: list[Column], values: list[Value], condition: str) -> str:
    names = [column.name for column in columns]
    # The longest name first: a column may be called as another one and a test are.
    fitting = [name for name in sorted(names, key=len, reverse=True) if condition.startswith(f"{name} ")]
    for name in fitting:
        rest = condition[len(name) + 1 :].strip()
        for test in ROW_TESTS:
            if rest == test or rest.startswith(f"{test} "):
                place = names.index(name)
                return _test(columns[place], place, values[place].sql, test, rest[len(test) :].strip())
    if not fitting and condition not in names:
        _place(names, condition.partition(" ")[0])
    tests = ", ".join(f"“{test}”" for test in ROW_TESTS)
    raise InvalidError(f"{condition!r} is not COLUMN TEST VALUE; tests: {tests}", code="rows.condition")


def _test(column: Column, place: int, number: str, test: str, value: str) -> str:
    cell, text = f"c{place}", f"CAST({shown(column, f'c{place}')} AS VARCHAR)"
    if test in ("is empty", "is not empty"):
        empty = f"({cell} IS NULL OR {text} = '')"
        return empty if test == "is empty" else f"NOT {empty}"
    if test == "contains":
        return f"contains(lower({text}), lower({literal(value)}))"
    if test in ("is", "is not"):
        same = f"{text} = {literal(value)}"
        if column.family in NUMBERS and _is_number(value):
            same = f"({same} OR {number} = {float(value)!r})"
        return same if test == "is" else f"NOT coalesce({same}, false)"
    sign = ">" if test == "over" else "<"
    if column.family in NUMBERS:
        if not _is_number(value):
            raise InvalidError(f"column {column.name} holds numbers, and {value!r} is none", code="rows.condition")
        return f"{number} {sign} {float(value)!r}"
    return f"{plain_text(column, cell)} {sign} {literal(value)}"


def _is_number(text: str) -> bool:
    try:
        number = float(text)
    except ValueError:
        return False
    return number == number and abs(number) != float("inf")
