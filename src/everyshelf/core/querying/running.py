"""Run one query over kept tables, with no other file, network, setting or extension in reach."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path

import pyarrow as pa

from everyshelf.core.answers.queries import QueryAnswer
from everyshelf.core.answers.tables import ColumnType
from everyshelf.core.errors import InvalidError, UnreadableError
from everyshelf.core.querying.statement import MOST_ROWS, MOST_SHOWN
from everyshelf.core.querying.typed import make_view
from everyshelf.core.tables.engine import Engine, literal, quoted

# The lists of a shelf: lines of JSON with these fields.
LIST_COLUMNS = {
    "commits": {
        "commit": "VARCHAR",
        "author": "VARCHAR",
        "time": "TIMESTAMP",
        "recorded": "TIMESTAMP",
        "summary": "VARCHAR",
        "description": "VARCHAR",
        "tasks": "VARCHAR[]",
        "labels": "MAP(VARCHAR, VARCHAR)",
    },
    "artifacts": {
        "path": "VARCHAR",
        "kind": "VARCHAR",
        "version": "BIGINT",
        "size": "BIGINT",
        "author": "VARCHAR",
        "summary": "VARCHAR",
        "recorded": "TIMESTAMP",
        "effect": "VARCHAR",
        "headline": "VARCHAR",
    },
    "versions": {
        "path": "VARCHAR",
        "version": "BIGINT",
        "kind": "VARCHAR",
        "size": "BIGINT",
        "effect": "VARCHAR",
        "headline": "VARCHAR",
        "commit": "VARCHAR",
        "author": "VARCHAR",
        "recorded": "TIMESTAMP",
        "content": "VARCHAR",
    },
    "findings": {
        "path": "VARCHAR",
        "version": "BIGINT",
        "kind": "VARCHAR",
        "action": "VARCHAR",
        "part": "VARCHAR",
        "type": "VARCHAR",
        "label": "VARCHAR",
        "field": "VARCHAR",
        "effect": "VARCHAR",
        "before": "VARCHAR",
        "after": "VARCHAR",
        "within": "VARCHAR",
        "detail": "VARCHAR",
        "cut": "BOOLEAN",
        "commit": "VARCHAR",
        "author": "VARCHAR",
        "recorded": "TIMESTAMP",
    },
    "runs": {
        "experiment": "VARCHAR",
        "run": "BIGINT",
        "branch": "VARCHAR",
        "state": "VARCHAR",
        "person": "VARCHAR",
        "began": "TIMESTAMP",
        "took_seconds": "DOUBLE",
        "command": "VARCHAR",
        "parameters": "MAP(VARCHAR, VARCHAR)",
        "metrics": "MAP(VARCHAR, DOUBLE)",
        "commit": "VARCHAR",
    },
}


@dataclass(frozen=True)
class Sources:
    """What a query reads, by the names of the views: kept tables, lists of a shelf (name, and lines of JSON), and
    answers of queries that were written as Parquet."""

    tables: Mapping[str, Path]
    lists: Mapping[str, tuple[str, Path]] = field(default_factory=dict)
    answers: Mapping[str, Path] = field(default_factory=dict)

    @property
    def files(self) -> list[Path]:
        """All files that are read."""
        return [*self.tables.values(), *(path for _, path in self.lists.values()), *self.answers.values()]


def _open(sources: Sources) -> Engine:
    """An engine that knows these sources, and reaches nothing else."""
    engine = Engine()
    try:
        for view, kept in sources.tables.items():
            make_view(engine, kept, view)
        for view, (name, lines) in sources.lists.items():
            fields = ", ".join(f"{literal(field)}: {literal(kind)}" for field, kind in LIST_COLUMNS[name].items())
            engine.run(
                f"CREATE VIEW {quoted(view)} AS SELECT * FROM read_json([{literal(str(lines))}], "
                f"format='newline_delimited', columns={{{fields}}})"
            )
        for view, answer in sources.answers.items():
            engine.run(f"CREATE VIEW {quoted(view)} AS SELECT * FROM read_parquet([{literal(str(answer))}])")
        allowed = ", ".join(literal(str(path)) for path in sources.files)
        engine.run(f"SET allowed_paths=[{allowed}]")
        engine.run("SET enable_external_access=false")
        engine.run("SET lock_configuration=true")
    except BaseException:
        engine.close()
        raise
    return engine


def run_query(sql: str, sources: Sources, most: int = MOST_SHOWN) -> QueryAnswer:
    """The first rows of a query. Raises ``InvalidError`` (query.failed) with what the engine says of it."""
    most = min(most, MOST_SHOWN)
    with _open(sources) as engine, _said():
        engine.run(f"CREATE TEMP TABLE answer AS SELECT * FROM (\n{_bare(sql)}\n) LIMIT {most + 1}")
        told = engine.rows("DESCRIBE answer")
        cells = ", ".join(f"CAST({quoted(name)} AS VARCHAR)" for name, *_ in told)
        rows = engine.rows(f"SELECT [{cells}] FROM answer")
    columns = [ColumnType(name=name, type=kind.lower()) for name, kind, *_ in told]
    return QueryAnswer(columns=columns, rows=[row for (row,) in rows[:most]], more=len(rows) > most)


def write_query(
    sql: str,
    sources: Sources,
    output: Path,
    form: str,
    most: int = MOST_ROWS,
) -> int:
    """Write the rows of a query, at most ``most``, as an Arrow stream or a Parquet file; gives how many there are."""
    import pyarrow.parquet as pq

    with _open(sources) as engine, _said():
        named = engine.rows(f"DESCRIBE SELECT * FROM (\n{_bare(sql)}\n)")
        names = _apart([name for name, *_ in named])
        batches = engine.batches(f"SELECT * FROM (\n{_bare(sql)}\n) LIMIT {most}")
        written, writer = 0, None
        try:
            for batch in batches:
                renamed = pa.RecordBatch.from_arrays(batch.columns, names=names)
                if writer is None:
                    writer = (
                        pq.ParquetWriter(output, renamed.schema, compression="zstd")
                        if form == "parquet"
                        else pa.ipc.new_stream(str(output), renamed.schema)
                    )
                writer.write_batch(renamed)
                written += batch.num_rows
            if writer is None:
                _write_empty(engine, sql, names, output, form)
        finally:
            if writer is not None:
                writer.close()
    return written


def _write_empty(engine: Engine, sql: str, names: list[str], output: Path, form: str) -> None:
    import pyarrow.parquet as pq

    table = engine.table(f"SELECT * FROM (\n{_bare(sql)}\n) LIMIT 0").rename_columns(names)
    if form == "parquet":
        pq.write_table(table, output)
    else:
        with pa.ipc.new_stream(str(output), table.schema) as writer:
            writer.write_table(table)


def _apart(names: list[str]) -> list[str]:
    """Names of which no two are the same: the second *fare* becomes *fare_1*."""
    return [
        f"{name}_{names[:place].count(name)}" if name in names[:place] else name for place, name in enumerate(names)
    ]


def _bare(sql: str) -> str:
    return sql.rstrip().rstrip(";")


@contextlib.contextmanager
def _said() -> Iterator[None]:
    """What the engine says of a query, as a problem with it."""
    try:
        yield
    except UnreadableError as error:
        said = error.message.partition(" Error: ")[2] or error.message
        raise InvalidError(
            f"the query cannot be run: {said}", code="query.failed", hint="Change it and run it again."
        ) from error
