"""Columnar files: Parquet by the engine itself; Arrow and Feather by memory map."""

from __future__ import annotations

import warnings
from pathlib import Path

import pyarrow as pa
import pyarrow.feather
import pyarrow.ipc

from everyshelf.core.errors import UnreadableError
from everyshelf.core.tables.columns import MOST_COLUMNS, Column, Source, family_of
from everyshelf.core.tables.engine import Engine, literal
from everyshelf.core.tables.given import Given


def open_parquet(engine: Engine, given: Given) -> Source:
    """A Parquet file; only its footer is read here."""
    path = given.on_disk(engine.folder)
    try:
        import pyarrow.parquet as pq  # slow to load, and few files need it

        footer = pq.read_metadata(path)
    except (pa.ArrowException, OSError) as error:
        raise UnreadableError(f"not readable as Parquet: {_short(error)}") from error
    schema = footer.schema.to_arrow_schema()
    if len(schema.names) > MOST_COLUMNS:
        raise UnreadableError(f"it has {len(schema.names)} columns, over {MOST_COLUMNS}")
    relation = engine.name("parquet")
    read = f"read_parquet([{literal(str(path))}], file_row_number=true, hive_partitioning=false)"
    found = [row for row in engine.rows(f"DESCRIBE SELECT * FROM {read}") if row[0] != "file_row_number"]
    columns = [_column(name, row[1]) for name, row in zip(schema.names, found, strict=True)]
    cells = [_cell(_sql_name(row[0]), column, i) for i, (row, column) in enumerate(zip(found, columns, strict=True))]
    head = ", ".join(["file_row_number + 1 AS r", *cells])
    engine.run(f"CREATE VIEW {relation} AS SELECT {head} FROM {read}")
    packing = {footer.row_group(0).column(0).compression.lower()} if footer.num_row_groups and columns else {"none"}
    layout = {"format": "Parquet", "compression": ", ".join(sorted(packing))}
    return Source(relation, [_held(c) for c in columns], footer.num_rows, layout, file=path)


def open_arrow(engine: Engine, given: Given) -> Source:
    """An Arrow file or stream, or a Feather file of either version."""
    path = given.on_disk(engine.folder)
    try:
        table, form = _arrow_table(path, given.head(8))
        table.validate(full=True)
    except (pa.ArrowException, OSError, ValueError, OverflowError) as error:
        raise UnreadableError(f"not readable as Arrow: {_short(error)}") from error
    if table.num_columns > MOST_COLUMNS:
        raise UnreadableError(f"it has {table.num_columns} columns, over {MOST_COLUMNS}")
    names = table.column_names
    held = engine.name("arrow")
    engine.register(held, table.rename_columns([f"v{i}" for i in range(len(names))]))
    found = engine.rows(f"DESCRIBE SELECT * FROM {held}")
    columns = [_column(name, row[1]) for name, row in zip(names, found, strict=True)]
    cells = [_cell(f"v{i}", column, i) for i, column in enumerate(columns)]
    relation = engine.name("arrow")
    engine.run(f"CREATE VIEW {relation} AS SELECT {', '.join(['row_number() OVER () AS r', *cells])} FROM {held}")
    return Source(relation, [_held(c) for c in columns], table.num_rows, {"format": form})


def _arrow_table(path: Path, head: bytes) -> tuple[pa.Table, str]:
    if head.startswith(b"FEA1"):
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # the form is old, and so are the files people keep in it
            return pyarrow.feather.read_table(path), "Feather 1"
    with pa.memory_map(str(path)) as file:
        if head.startswith(b"ARROW1"):
            return pyarrow.ipc.open_file(file).read_all(), "Arrow"
        return pyarrow.ipc.open_stream(file).read_all(), "Arrow stream"


def _column(name: str, engine_type: str) -> Column:
    return Column(name, engine_type, family_of(engine_type), declared=True)


def _cell(expression: str, column: Column, place: int) -> str:
    """Nested values are compared by their JSON text, enumerations by theirs."""
    if column.family == "nested":
        return f"CAST(to_json({expression}) AS VARCHAR) AS c{place}"
    if column.engine_type.startswith("ENUM"):
        return f"CAST({expression} AS VARCHAR) AS c{place}"
    return f"{expression} AS c{place}"


def _held(column: Column) -> Column:
    if column.family == "nested" or column.engine_type.startswith("ENUM"):
        return Column(column.name, "VARCHAR", column.family, declared=True)
    return column


def _sql_name(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _short(error: BaseException) -> str:
    return (str(error).splitlines() or [type(error).__name__])[0][:200]
