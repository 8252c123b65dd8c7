"""Two Parquet files: row groups that are the same bytes in both hold the same rows, and are not read.

A group is known by the bytes of its column chunks (Apache Parquet format, "Column chunks"), which hold no place in the file;
they are hashed only where counts and sizes in the two footers agree.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import blake3
import pyarrow as pa

from everyshelf.core.tables.columnar import open_parquet
from everyshelf.core.tables.columns import Source
from everyshelf.core.tables.engine import Engine
from everyshelf.core.tables.given import Given
from everyshelf.core.tables.hashes import is_unique

_WORTH_IT = 0.3  # share of the rows: with fewer equal ones, both tables are read whole
_SAMPLE_ROWS = 20_000


def open_by_row_groups(engine: Engine, before: Given, after: Given) -> tuple[Source, Source] | None:
    """Both tables without the row groups both have; None where they share too few, or differ in their columns."""
    if before.files or after.files:
        return None
    paths = [given.on_disk(engine.folder) for given in (before, after)]
    try:
        import pyarrow.parquet as pq  # slow to load, and few files need it

        footers = [pq.read_metadata(path) for path in paths]
    except (pa.ArrowException, OSError):
        return None
    if not footers[0].schema.equals(footers[1].schema):
        return None
    equal = _equal_groups(paths, footers)
    left_out = sum(footers[0].row_group(n).num_rows for n in equal[0])
    if left_out < _WORTH_IT * max(1, *(footer.num_rows for footer in footers)):
        return None
    sides = zip((before, after), footers, equal, strict=True)
    one, other = (_without(engine, open_parquet(engine, given), footer, groups) for given, footer, groups in sides)
    return one, other


def _equal_groups(paths: Sequence[Path], footers: Sequence[Any]) -> tuple[set[int], set[int]]:
    """Row groups of either side that have a twin on the other, by number; each twin counts once."""
    shapes = [[_shape(footer.row_group(n)) for n in range(footer.num_row_groups)] for footer in footers]
    both = set(shapes[0]) & set(shapes[1])
    held: list[dict[bytes, list[int]]] = []
    for path, footer, told in zip(paths, footers, shapes, strict=True):
        found: dict[bytes, list[int]] = {}
        for n, shape in enumerate(told):
            if shape in both:
                found.setdefault(_digest(path, footer.row_group(n)), []).append(n)
        held.append(found)
    twins = Counter({d: min(len(groups), len(held[1].get(d, ()))) for d, groups in held[0].items()})
    one, other = ({n for d, count in twins.items() for n in side.get(d, [])[:count]} for side in held)
    return one, other


def _shape(group: Any) -> tuple[Any, ...]:
    columns = (group.column(n) for n in range(group.num_columns))
    return group.num_rows, *((c.compression, c.total_compressed_size, c.total_uncompressed_size) for c in columns)


def _digest(path: Path, group: Any) -> bytes:
    digest = blake3.blake3()
    with path.open("rb") as file:
        for n in range(group.num_columns):
            column = group.column(n)
            starts = (column.dictionary_page_offset, column.data_page_offset)
            file.seek(min(start for start in starts if start))
            digest.update(column.total_compressed_size.to_bytes(8, "big"))
            digest.update(file.read(column.total_compressed_size))
    return digest.digest()


def _without(engine: Engine, source: Source, footer: Any, groups: set[int]) -> Source:
    """The table without these row groups: the engine does not open those outside the ranges asked for."""
    ranges: list[list[int]] = []
    end = count = 0
    for n in range(footer.num_row_groups):
        start, end = end, end + footer.row_group(n).num_rows
        if n in groups:
            count += end - start
        elif ranges and ranges[-1][1] == start:
            ranges[-1][1] = end
        else:
            ranges.append([start, end])
    wanted = " OR ".join(f"r BETWEEN {low + 1} AND {high}" for low, high in ranges) or "false"
    relation, sample = engine.name("groups"), engine.name("sample")
    engine.run(f"CREATE VIEW {relation} AS SELECT * FROM {source.relation} WHERE {wanted}")
    step = max(1, source.row_count // _SAMPLE_ROWS)
    engine.run(f"CREATE VIEW {sample} AS SELECT * FROM {source.relation} WHERE r % {step * 1000} < 1000")
    return replace(source, relation=relation, rest=_Rest(count, sample, engine, source))


@dataclass
class _Rest:
    """See ``columns.Rest``."""

    count: int
    sample: str
    engine: Engine
    source: Source

    def is_key(self, places: Sequence[int]) -> bool:
        """True if these columns, and no others are read for it, tell every row from every other."""
        cells = [f"c{place}" for place in places]
        empty = " OR ".join(f"{cell} IS NULL" for cell in cells)
        if self.engine.rows(f"SELECT 1 FROM {self.source.relation} WHERE {empty} LIMIT 1"):
            return False
        return is_unique(self.engine, self.source.relation, cells)

    def whole(self) -> Source:
        """All rows."""
        return self.source
