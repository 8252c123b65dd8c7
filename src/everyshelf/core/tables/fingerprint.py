"""A fingerprint of a table that does not depend on the order of its rows, nor on how its file is laid out.

Each row is written as its cells one after the other, ``length:text`` (bytes, UTF-8) or ``-`` for null, and hashed with MD5
(RFC 1321); both halves of the hashes, little-endian, are summed over all rows modulo 2^64. The digest is the SHA-256 of the canonical JSON of
the columns' names and types, the number of rows, and both sums. Any program can make it again, whatever engine read the
file. It tells tables apart by accident's chance of about 2^-128; it is no protection against somebody who makes two
tables to match.
"""

from __future__ import annotations

import hashlib

import msgspec
import orjson

from everyshelf.core.answers.tables import ColumnFacts, TableFingerprint
from everyshelf.core.spreading import UnreachedError, told, use_for
from everyshelf.core.tables.columns import Column, Source
from everyshelf.core.tables.engine import Engine
from everyshelf.core.tables.stretches import Stretch, opened, stretches_of

FINGERPRINT_VERSION = 1


def fingerprint_of(engine: Engine, source: Source) -> TableFingerprint:
    """Read every cell once; raises ``UnreadableError`` where the file turns out to be damaged."""
    places = list(range(len(source.columns)))
    if not source.in_order:
        places.sort(key=lambda place: source.columns[place].name)
    row = " || ".join(_written(source.columns[place], f"c{place}") for place in places) or "''"
    sums = _by_spreading(source, row) or _sums(engine, source.relation, row)
    columns = [[source.columns[place].name, source.columns[place].told_type] for place in places]
    said = {"columns": columns, "rows": source.row_count, "sums": [f"{int(s) % 2**64:016x}" for s in sums]}
    return TableFingerprint(
        digest=hashlib.sha256(orjson.dumps(said, option=orjson.OPT_SORT_KEYS)).hexdigest(),
        rows=source.row_count,
        columns=[ColumnFacts(**vars(column)) for column in source.columns],
        layout=source.layout,
        preamble=list(source.preamble),
        in_order=source.in_order,
    )


def _sums(engine: Engine, relation: str, row: str) -> list[int]:
    """Both sums over the rows of a relation."""
    found = engine.row(
        f"SELECT coalesce(sum(md5_number_upper(t)::HUGEINT), 0), coalesce(sum(md5_number_lower(t)::HUGEINT), 0) "
        f"FROM (SELECT {row} AS t FROM {relation})"
    )
    return [int(one) for one in found]


def sums_of(stretch: Stretch, row: str) -> list[int]:
    """Both sums over the rows of a stretch (the work of one part)."""
    with opened(stretch) as (engine, relation):
        return _sums(engine, relation, row)


def _by_spreading(source: Source, row: str) -> list[int] | None:
    """Both sums, of a large table by other processes; None where this one works alone."""
    use = use_for(source.row_count)
    if use is None or source.file is None or source.left_out:
        return None
    try:
        with use.opened() as spread:
            pending = [spread.submit(sums_of, stretch, row) for stretch in stretches_of(spread, source)]
            parts = list(told(use, spread.as_done(pending), len(pending)))
    except UnreachedError as error:
        use.missed(str(error))
        return None
    return [sum(both) for both in zip(*parts, strict=True)]


def source_from(known: TableFingerprint) -> Source:
    """What a fingerprint tells of its table; it has no relation, so nothing of it can be read."""
    columns = [Column(**msgspec.structs.asdict(column)) for column in known.columns]
    return Source("", columns, known.rows, known.layout, known.preamble, in_order=known.in_order)


def _written(column: Column, cell: str) -> str:
    if column.engine_type == "BLOB":
        text = f"hex({cell})"
    elif column.engine_type == "TIMESTAMP WITH TIME ZONE":
        text = f"CAST(CAST({cell} AS TIMESTAMP) AS VARCHAR)"  # in UTC, as the engine is set up
    else:
        text = f"CAST({cell} AS VARCHAR)"
    return f"coalesce(strlen({text})::VARCHAR || ':' || {text}, '-')"
