"""Delimited tables: the small ones by the parser that keeps every irregularity, the large ones by the engine's, with
the small one's findings about dialect, and by the small one after all where the engine refuses."""

from __future__ import annotations

import codecs
import csv
from collections.abc import Iterator
from itertools import islice
from pathlib import Path

import pyarrow as pa

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.tables import Table, is_comment, parse_table, shape_rows
from everyshelf.core.formats.text import decode
from everyshelf.core.tables.columns import MOST_COLUMNS, Column, Source
from everyshelf.core.tables.engine import Engine, literal
from everyshelf.core.tables.given import Given
from everyshelf.core.tables.spelling import found_types

SMALL_BYTES = 4 * 1024 * 1024
_HEAD_BYTES = 256 * 1024
_BATCH_ROWS = 50_000
_MOST_LINE = 64 * 1024 * 1024


def open_delimited(engine: Engine, given: Given) -> Source:
    """The table in a delimited text; raises ``UnreadableError`` if it is none."""
    if given.size <= SMALL_BYTES:
        return from_parsed(engine, parse_table(given.content))
    shaped = head_of(given)
    if len(shaped.columns) > MOST_COLUMNS:
        raise UnreadableError(f"it has {len(shaped.columns)} columns, over {MOST_COLUMNS}")
    path = as_utf8(engine, given, shaped)
    relation = engine.name("delimited")
    try:
        into_table(engine, relation, path, shaped, skip=shaped.lines_before)
    except UnreadableError:
        engine.run(f"DROP TABLE IF EXISTS {relation}")
        return _by_parser(engine, path, shaped)
    return _finished(engine, relation, shaped)


def head_of(given: Given) -> Table:
    """Dialect, columns and first rows of a long file; raises ``UnreadableError``."""
    data = given.head(_HEAD_BYTES)
    end = data.rfind(b"\n")
    if end < 0:
        end = data.rfind(b"\r")
    if end < 0:
        raise UnreadableError("its first line is longer than 256 KB")
    return shape_rows(decode(data[: end + 1]))


def as_utf8(engine: Engine, given: Given, shaped: Table) -> Path:
    """The file, or a copy of it, in UTF-8 with line ends that the engine knows."""
    encoding, newline = shaped.dialect["encoding"], shaped.dialect["newline"]
    path = given.on_disk(engine.folder)
    if encoding in ("utf-8", "ascii") and newline != "\r":
        return path
    target = engine.folder / engine.name("utf8")
    with path.open("rb") as raw, target.open("w", encoding="utf-8", newline="") as out:
        source = codecs.getreader(encoding)(raw)
        try:
            while text := source.read(1 << 20):
                out.write(text.replace("\r", "\n") if newline == "\r" else text)
        except UnicodeError as error:
            raise UnreadableError(f"not {encoding} throughout: {error}") from error
    return target


def into_table(engine: Engine, relation: str, path: Path, shaped: Table, *, skip: int) -> None:
    """The rows after the first ``skip`` lines as a table of the engine; raises ``UnreadableError``."""
    width = len(shaped.columns)
    columns = ", ".join(f"'c{i}': 'VARCHAR'" for i in range(width))
    kept = ", ".join(f"'c{i}'" for i in range(width))
    options = (
        f"auto_detect=false, header=false, skip={skip}, delim={literal(shaped.dialect['delimiter'])}, quote='\"', "
        f"escape='\"', columns={{{columns}}}, force_not_null=[{kept}], null_padding=false, strict_mode=true, "
        f"parallel=true, max_line_size={_MOST_LINE >> 3}, comment='', hive_partitioning=false"
    )
    cells = ", ".join(f"c{i}" for i in range(width))
    engine.run(
        f"CREATE TEMP TABLE {relation} AS SELECT row_number() OVER () AS r, {cells} "
        f"FROM read_csv([{literal(str(path))}], {options})"
    )


def _by_parser(engine: Engine, path: Path, shaped: Table) -> Source:
    """Row by row, ragged rows kept: as wide as the widest, in two passes with bounded memory."""
    _check_lines(path)
    width = max((len(row) for row in _parsed(path, shaped)), default=0)
    if width > MOST_COLUMNS:
        raise UnreadableError(f"a row has {width} cells, over {MOST_COLUMNS}")
    names = [*shaped.columns, *(f"column {i + 1}" for i in range(len(shaped.columns), width))]
    schema = pa.schema([("r", pa.int64()), *((f"c{i}", pa.string()) for i in range(width))])
    target = engine.folder / f"{engine.name('ragged')}.parquet"
    rows = _parsed(path, shaped)
    place = 1
    import pyarrow.parquet as pq  # slow to load, and few files need it

    with pq.ParquetWriter(target, schema, compression="zstd", compression_level=1) as writer:
        while batch := list(islice(rows, _BATCH_ROWS)):
            writer.write_batch(_batch(batch, width, place, schema))
            place += len(batch)
    relation = engine.name("ragged")
    engine.run(
        f"CREATE VIEW {relation} AS SELECT * FROM read_parquet([{literal(str(target))}], hive_partitioning=false)"
    )
    return _finished(engine, relation, Table(names, [], shaped.dialect, header=shaped.header, preamble=shaped.preamble))


def _check_lines(path: Path) -> None:
    """Raise ``UnreadableError`` for a line nobody could hold."""
    since = 0
    with path.open("rb") as file:
        while piece := file.read(1 << 20):
            last = piece.rfind(b"\n")
            since = len(piece) - last - 1 if last >= 0 else since + len(piece)
            if since > _MOST_LINE:
                raise UnreadableError(f"a line in it is longer than {_MOST_LINE >> 20} MB")


def _parsed(path: Path, shaped: Table) -> Iterator[tuple[str, ...]]:
    with path.open(encoding="utf-8-sig", newline="") as file:
        try:
            rows = (tuple(row) for row in csv.reader(file, delimiter=shaped.dialect["delimiter"]) if row)
            width = len(shaped.columns)
            yield from (row for row in islice(rows, shaped.lines_before, None) if not is_comment(row, width))
        except (csv.Error, UnicodeError) as error:
            raise UnreadableError(f"not readable as a table: {error}") from error


def _batch(rows: list[tuple[str, ...]], width: int, place: int, schema: pa.Schema) -> pa.RecordBatch:
    full = [row if len(row) == width else (*row, *("",) * (width - len(row))) for row in rows]
    numbers = pa.array(range(place, place + len(rows)), pa.int64())
    cells = [pa.array(values, pa.string()) for values in zip(*full, strict=True)]
    return pa.RecordBatch.from_arrays([numbers, *cells], schema=schema)


def from_parsed(engine: Engine, table: Table) -> Source:
    """A table that is in memory; raises ``UnreadableError`` if it is too wide."""
    width = max([len(table.columns), *(len(row) for row in table.rows)])
    if width > MOST_COLUMNS:
        raise UnreadableError(f"it has {width} columns, over {MOST_COLUMNS}")
    names = [*table.columns, *(f"column {i + 1}" for i in range(len(table.columns), width))]
    relation = engine.name("delimited")
    schema = pa.schema([("r", pa.int64()), *((f"c{i}", pa.string()) for i in range(width))])
    batches = [
        _batch(table.rows[i : i + _BATCH_ROWS], width, i + 1, schema) for i in range(0, len(table.rows), _BATCH_ROWS)
    ]
    engine.register(relation, pa.Table.from_batches(batches, schema))
    return _finished(engine, relation, Table(names, [], table.dialect, header=table.header, preamble=table.preamble))


def _finished(engine: Engine, relation: str, shaped: Table) -> Source:
    count = engine.row(f"SELECT count(*) FROM {relation}")[0]
    types = found_types(engine, relation, list(range(len(shaped.columns))), count)
    columns = [Column(name, "VARCHAR", *types[i]) for i, name in enumerate(shaped.columns)]
    return Source(relation, columns, count, source_layout(shaped), shaped.preamble)


def source_layout(shaped: Table) -> dict[str, str]:
    """How the text is written."""
    return {"format": "delimited text", **shaped.dialect}
