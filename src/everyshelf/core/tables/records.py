"""Records written as JSON: an array of objects, or one object a line. A missing field is not a null."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Iterator
from typing import Any

import orjson
import pyarrow as pa

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.json import parse_json
from everyshelf.core.tables.columns import MOST_COLUMNS, Column, Source, family_of
from everyshelf.core.tables.engine import Engine, literal
from everyshelf.core.tables.given import Given
from everyshelf.core.tables.spelling import found_types

SMALL_BYTES = 32 * 1024 * 1024
_BATCH_ROWS = 20_000
_INT64 = range(-(2**63), 2**63)
_TYPES = {"integer": pa.int64(), "decimal": pa.float64(), "boolean": pa.bool_(), "text": pa.string()}


class _Field:
    """What the values of one field are, over all records."""

    def __init__(self) -> None:
        self.families: set[str] = set()
        self.has_null = False
        self.present = 0
        self.holds_records = False

    def note(self, value: Any) -> None:
        self.present += 1
        if value is None:
            self.has_null = True
        else:
            self.families.add(_family(value))
            self.holds_records |= isinstance(value, dict) or (isinstance(value, list) and _has_objects(value))

    def form(self, records: int) -> str:
        """The family all values have, or "json": each value in its JSON text, so that nothing is mixed up."""
        families = {"decimal"} if self.families == {"integer", "decimal"} else self.families
        if len(families) > 1 or not families <= _TYPES.keys():
            return "json"
        # A null is written out where others have no such field at all.
        if self.has_null and (self.present < records or not families):
            return "json"
        return next(iter(families), "text")


def open_records(engine: Engine, given: Given, form: str, *, spelt_out: frozenset[str] = frozenset()) -> Source:
    """``form``: "json" (an array) or "jsonl". ``spelt_out``: fields to be held in their JSON text in any case."""
    fields: dict[str, _Field] = {}
    count = 0
    for record in _records(given, form):
        count += 1
        for name, value in record.items():
            if name not in fields:
                if len(fields) >= MOST_COLUMNS:
                    raise UnreadableError(f"its records have over {MOST_COLUMNS} different fields")
                fields[name] = _Field()
            fields[name].note(value)
    if not count:
        raise UnreadableError("there is no record in it")
    forms = {name: "json" if name in spelt_out else field.form(count) for name, field in fields.items()}
    relation = _stored(engine, _records(given, form), forms)
    texts = found_types(engine, relation, [i for i, f in enumerate(forms.values()) if f == "text"], count)
    columns = []
    for i, (name, kind) in enumerate(forms.items()):
        if kind == "text":
            columns.append(Column(name, "VARCHAR", *texts[i]))
        else:
            engine_type = {"integer": "BIGINT", "decimal": "DOUBLE", "boolean": "BOOLEAN"}.get(kind, "VARCHAR")
            family = "json" if kind == "json" else family_of(engine_type)
            columns.append(Column(name, engine_type, "nested" if family == "json" else family))
    spelling = "JSON lines" if form == "jsonl" else "JSON array"
    holds_records = any(field.holds_records for field in fields.values())
    return Source(relation, columns, count, {"format": spelling}, in_order=False, holds_records=holds_records)


def _records(given: Given, form: str) -> Iterator[dict[str, Any]]:
    values = _lines(given) if form == "jsonl" else _array(given)
    for place, value in enumerate(values, 1):
        if not isinstance(value, dict):
            raise UnreadableError(f"record {place} is not an object")
        yield value


def _array(given: Given) -> Iterable[Any]:
    if given.size > SMALL_BYTES * 8:
        raise UnreadableError(f"a JSON array of over {SMALL_BYTES * 8 >> 20} MB is not read as a table")
    tree = parse_json(given.content)
    if not isinstance(tree, list):
        raise UnreadableError("it is not an array of records")
    return tree


def _lines(given: Given) -> Iterator[Any]:
    lines: Iterable[bytes]
    if given.size <= SMALL_BYTES:
        lines = given.content.splitlines()
    else:
        assert given.path is not None or given.data is not None
        lines = given.path.open("rb") if given.path is not None else given.content.splitlines()
    for number, line in enumerate(lines, 1):
        if stripped := line.strip().removeprefix(b"\xef\xbb\xbf"):
            try:
                yield orjson.loads(stripped)
            except orjson.JSONDecodeError:
                try:
                    yield parse_json(stripped)
                except UnreadableError as error:
                    raise UnreadableError(f"line {number}: {error}") from error


def _stored(engine: Engine, records: Iterator[dict[str, Any]], forms: dict[str, str]) -> str:
    schema = pa.schema(
        [("r", pa.int64()), *((f"c{i}", _TYPES.get(form, pa.string())) for i, form in enumerate(forms.values()))]
    )
    target = engine.folder / f"{engine.name('records')}.parquet"
    relation, place = engine.name("records"), 1
    first = list(itertools.islice(records, _BATCH_ROWS))
    if len(first) < _BATCH_ROWS:
        engine.register(relation, pa.Table.from_batches([_batch(first, forms, 1, schema)], schema))
        return relation
    import pyarrow.parquet as pq  # slow to load, and few files need it

    with pq.ParquetWriter(target, schema, compression="zstd", compression_level=1) as writer:
        batch = first
        while batch:
            writer.write_batch(_batch(batch, forms, place, schema))
            place += len(batch)
            batch = list(itertools.islice(records, _BATCH_ROWS))
    engine.run(
        f"CREATE VIEW {relation} AS SELECT * FROM read_parquet([{literal(str(target))}], hive_partitioning=false)"
    )
    return relation


def _batch(records: list[dict[str, Any]], forms: dict[str, str], place: int, schema: pa.Schema) -> pa.RecordBatch:
    arrays = [pa.array(range(place, place + len(records)), pa.int64())]
    for name, form in forms.items():
        values: list[Any]
        if form == "json":
            values = [_json(record[name]) if name in record else None for record in records]
        elif form == "decimal":
            values = [None if (v := record.get(name)) is None else float(v) for record in records]
        else:
            values = [record.get(name) for record in records]
        arrays.append(pa.array(values, _TYPES.get(form, pa.string())))
    return pa.RecordBatch.from_arrays(arrays, schema=schema)


def _family(value: Any) -> str:
    if isinstance(value, bool):
        return "boolean"
    if isinstance(value, int):
        return "integer" if value in _INT64 else "json"
    if isinstance(value, float):
        return "decimal"
    return "text" if isinstance(value, str) else "json"


def _has_objects(values: list[Any]) -> bool:
    return any(isinstance(value, dict) for value in values)


def _json(value: Any) -> str:
    try:
        return orjson.dumps(value, option=orjson.OPT_SORT_KEYS).decode()
    except TypeError:
        return str(value)  # a number beyond 64 bits
