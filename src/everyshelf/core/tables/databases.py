"""SQLite files (format: https://www.sqlite.org/fileformat2.html): what is in them, and their tables as tables.

Opened read-only and as unchanging, with nothing of the file's own trusted: no trigger or view runs, no extension loads.
"""

from __future__ import annotations

import contextlib
import itertools
import re
import sqlite3
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from urllib.parse import quote

import pyarrow as pa

from everyshelf.core.errors import UnreadableError
from everyshelf.core.tables.columns import MOST_COLUMNS, Column, Source, family_of
from everyshelf.core.tables.engine import Engine, literal
from everyshelf.core.tables.given import Given
from everyshelf.core.tables.spelling import found_types

_BATCH_ROWS = 20_000
_MOST_TABLES = 2_000
_STEPS = 100_000
_OWN = ("sqlite_sequence", "sqlite_stat1", "sqlite_stat3", "sqlite_stat4")
_COLLATE = re.compile(r"""\bcollate\s+(?:(\w+)|["'`]([^"'`]+)["'`]|\[([^\]]+)\])""", re.IGNORECASE)


@dataclass(frozen=True)
class DatabaseColumn:
    """A column as the schema declares it; ``key``: its place in the primary key, 0 if it is none of it."""

    name: str
    type: str
    required: bool
    default: str | None
    key: int
    generated: bool


@dataclass
class DatabaseTable:
    """A table's schema. ``references``: foreign keys as (columns, table, columns there, what follows a deletion)."""

    name: str
    columns: list[DatabaseColumn] = field(default_factory=list)
    references: list[tuple[str, str, str, str]] = field(default_factory=list)
    options: str = ""
    problem: str = ""

    @property
    def key(self) -> tuple[str, ...]:
        """The primary key's columns in order."""
        return tuple(c.name for c in sorted(self.columns, key=lambda c: c.key) if c.key)


@dataclass
class Database:
    """What a file holds; indexes, views and triggers by name with their SQL, blanks evened out."""

    tables: dict[str, DatabaseTable] = field(default_factory=dict)
    indexes: dict[str, str] = field(default_factory=dict)
    views: dict[str, str] = field(default_factory=dict)
    triggers: dict[str, str] = field(default_factory=dict)
    settings: dict[str, str] = field(default_factory=dict)


@contextlib.contextmanager
def opened(given: Given, folder: Path, *, seconds: float | None = None) -> Iterator[sqlite3.Connection]:
    """A connection to the file; raises ``UnreadableError`` for what goes wrong with it, also later."""
    path = given.on_disk(folder)
    address = f"file:{quote(str(path.resolve()))}?mode=ro&immutable=1"
    end = None if seconds is None else time.monotonic() + seconds
    try:
        with _guarded(address, end) as scout:
            collations = foreign_collations(scout)
        with _guarded(address, end) as connection:
            know_collations(connection, collations)
            for setting in ("trusted_schema = OFF", "cell_size_check = ON", "query_only = ON"):
                connection.execute(f"PRAGMA {setting}")
            yield connection
    except (sqlite3.Error, OverflowError, ValueError) as error:
        raise UnreadableError(f"not readable as an SQLite database: {error}") from error


@contextlib.contextmanager
def _guarded(address: str, end: float | None) -> Iterator[sqlite3.Connection]:
    with contextlib.closing(sqlite3.connect(address, uri=True)) as connection:
        connection.text_factory = lambda data: data.decode("utf-8", "surrogateescape")
        connection.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, 64 * 1024 * 1024)
        connection.set_progress_handler(lambda: int(end is not None and time.monotonic() > end), _STEPS)
        yield connection


def foreign_collations(connection: sqlite3.Connection) -> set[str]:
    """Names of ways of ordering that columns and indexes of a file have and SQLite does not bring along."""
    known = {row[1].upper() for row in connection.execute("PRAGMA collation_list")}
    connection.text_factory = lambda data: data.decode("utf-8", "surrogateescape")
    said = connection.execute("SELECT sql FROM sqlite_schema WHERE sql LIKE '%collate%'").fetchall()
    named = {found[1] or found[2] or found[3] for (sql,) in said for found in _COLLATE.finditer(sql)}
    return {name for name in named if name.upper() not in known}


def know_collations(connection: sqlite3.Connection, names: set[str]) -> None:
    """Let columns be read that another program orders in a way of its own, here by their characters. Before the
    connection reads the schema: what it does not know by then it does not know for good. No connection that changes
    anything may know them: the program would not find what was put into such an index."""
    for name in names:
        connection.create_collation(name, lambda a, b: (a > b) - (a < b))


def read_schema(connection: sqlite3.Connection) -> Database:
    """Everything but the rows."""
    result = Database()
    listed = connection.execute("SELECT type, name, tbl_name, sql FROM sqlite_schema ORDER BY name").fetchall()
    shadows = _shadows(listed)
    for kind, name, _, sql in listed:
        if kind == "table" and name not in _OWN and name not in shadows:
            if len(result.tables) >= _MOST_TABLES:
                raise UnreadableError(f"it holds over {_MOST_TABLES} tables")
            result.tables[name] = _table(connection, name, sql or "")
        elif kind == "index" and sql:
            result.indexes[name] = _even(sql)
        elif kind in ("view", "trigger"):
            (result.views if kind == "view" else result.triggers)[name] = _even(sql or "")
    for name in ("user_version", "application_id", "encoding"):
        result.settings[name] = str(connection.execute(f"PRAGMA {name}").fetchone()[0])
    return result


def _shadows(listed: list[tuple[str, str, str, str | None]]) -> set[str]:
    """Tables in which a virtual table keeps its own data."""
    virtual = [name for kind, name, _, sql in listed if kind == "table" and _is_virtual(sql)]
    names = [name for kind, name, _, _ in listed if kind == "table"]
    return {name for name in names for owner in virtual if name.startswith(f"{owner}_")}


def _is_virtual(sql: str | None) -> bool:
    return bool(re.match(r"\s*create\s+virtual\s+table\b", sql or "", re.IGNORECASE))


def _table(connection: sqlite3.Connection, name: str, sql: str) -> DatabaseTable:
    result = DatabaseTable(name)
    if _is_virtual(sql):
        result.problem = "a virtual table; its rows are its module's"
    try:
        for _, column, declared, required, default, key, hidden in connection.execute(
            f"PRAGMA table_xinfo({_quoted(name)})"
        ):
            if hidden != 1:
                generated = hidden in (2, 3)
                result.columns.append(
                    DatabaseColumn(column, declared.upper(), bool(required), default, int(key), generated)
                )
        keys: dict[int, list[tuple[str, str, str, str]]] = {}
        for number, _, table, here, there, _, deleted, _ in connection.execute(
            f"PRAGMA foreign_key_list({_quoted(name)})"
        ):
            keys.setdefault(number, []).append((here, table, there or "", deleted))
        result.references = sorted(
            (", ".join(r[0] for r in rows), rows[0][1], ", ".join(r[2] for r in rows), rows[0][3])
            for rows in keys.values()
        )
    except sqlite3.OperationalError as error:
        result.problem = str(error)  # a module this program does not have
    tail = sql.rpartition(")")[2]
    result.options = " ".join(sorted(re.findall(r"without\s+rowid|strict", tail.lower()))).upper()
    return result


def _even(sql: str) -> str:
    return " ".join(sql.split())


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def row_count(connection: sqlite3.Connection, table: str) -> int:
    """How many rows a table has."""
    return int(connection.execute(f"SELECT count(*) FROM {_quoted(table)}").fetchone()[0])


def table_source(engine: Engine, connection: sqlite3.Connection, table: DatabaseTable) -> Source:
    """The rows of one table, for the engine."""
    if len(table.columns) > MOST_COLUMNS:
        raise UnreadableError(f"table {table.name} has {len(table.columns)} columns, over {MOST_COLUMNS}")
    names = [_quoted(c.name) for c in table.columns]
    if not names:
        raise UnreadableError(f"table {table.name} has no column")
    types = ", ".join(f"group_concat(DISTINCT typeof({n}))" for n in names)
    found = connection.execute(f"SELECT count(*), {types} FROM {_quoted(table.name)}").fetchone()
    forms = [_form(set((text or "").split(",")) - {"null", ""}) for text in found[1:]]
    cells = ", ".join(f"quote({n})" if form == "mixed" else n for n, form in zip(names, forms, strict=True))
    arrow = [_ARROW[form] for form in forms]
    schema = pa.schema([("r", pa.int64()), *((f"c{i}", kind) for i, kind in enumerate(arrow))])
    rows = connection.execute(f"SELECT {cells} FROM {_quoted(table.name)}")
    relation = _stored(engine, rows, schema)
    texts = found_types(engine, relation, [i for i, form in enumerate(forms) if form == "text"], found[0])
    columns = []
    for i, (column, form) in enumerate(zip(table.columns, forms, strict=True)):
        if form == "text":
            columns.append(Column(column.name, "VARCHAR", *texts[i], said=column.type))
        elif form == "empty":
            columns.append(Column(column.name, "VARCHAR", "empty", said=column.type))
        else:
            engine_type = _ENGINE[form]
            family = "text" if form == "mixed" else family_of(engine_type)
            columns.append(Column(column.name, engine_type, family, said=column.type))
    return Source(relation, columns, found[0], {})


_ARROW = {
    "integer": pa.int64(),
    "real": pa.float64(),
    "text": pa.string(),
    "blob": pa.binary(),
    "mixed": pa.string(),
    "empty": pa.string(),
}
_ENGINE = {"integer": "BIGINT", "real": "DOUBLE", "blob": "BLOB", "mixed": "VARCHAR"}


def _form(types: set[str]) -> str:
    """How a column's values are held: SQLite lets each cell have a type of its own."""
    if not types:
        return "empty"
    if len(types) == 1:
        return next(iter(types))
    return "real" if types == {"integer", "real"} else "mixed"


def _stored(engine: Engine, rows: Iterator[tuple[Any, ...]], schema: pa.Schema) -> str:
    relation, place = engine.name("rows"), 1
    batch = list(itertools.islice(rows, _BATCH_ROWS))
    if len(batch) < _BATCH_ROWS:
        engine.register(relation, pa.Table.from_batches([_batch(batch, 1, schema)], schema))
        return relation
    target = engine.folder / f"{relation}.parquet"
    import pyarrow.parquet as pq  # slow to load, and few files need it

    with pq.ParquetWriter(target, schema, compression="zstd", compression_level=1) as writer:
        while batch:
            writer.write_batch(_batch(batch, place, schema))
            place += len(batch)
            batch = list(itertools.islice(rows, _BATCH_ROWS))
    engine.run(
        f"CREATE VIEW {relation} AS SELECT * FROM read_parquet([{literal(str(target))}], hive_partitioning=false)"
    )
    return relation


def _batch(rows: list[tuple[Any, ...]], place: int, schema: pa.Schema) -> pa.RecordBatch:
    arrays = [pa.array(range(place, place + len(rows)), pa.int64())]
    for n, kind in enumerate(schema.types[1:]):
        values: list[Any] = [row[n] for row in rows]
        if kind == pa.float64():
            values = [None if v is None else float(v) for v in values]
        elif kind == pa.string():
            values = [None if v is None else v.encode("utf-8", "replace").decode() for v in values]
        arrays.append(pa.array(values, kind))
    return pa.RecordBatch.from_arrays(arrays, schema=schema)
