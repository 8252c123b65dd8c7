"""Rows that differ between two tables, as a comparison kept them, turned into blocks by their keys."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import msgspec

from everyshelf.core.answers.tables import TableAnswer
from everyshelf.core.origins.tables import RowChange, TableStep, blocks
from everyshelf.core.tables.engine import Engine, literal
from everyshelf.core.tables.keep import MOST_KEPT


def table_step(answer: TableAnswer) -> TableStep:
    """What a comparison of two tables says of them, as a step."""
    counts = answer.rows
    differing = counts.added + counts.removed + counts.changed
    return TableStep(
        key=answer.key,
        columns=[column.name for column in answer.schema.after],
        added=answer.columns.added,
        removed=answer.columns.removed,
        renamed={new: old for old, new in answer.columns.renamed},
        cells={name: cells.changed for name, cells in answer.cells.items() if cells.changed},
        rows=(counts.added, counts.removed, counts.changed),
        whole=answer.unrelated or differing > MOST_KEPT,
    )


def write_blocks(engine: Engine, table: str, step: TableStep, before: list[str], rows: Path, output: Path) -> None:
    """Append the rows kept in a file to ``output`` as blocks, each after its length; ``before``: the older columns."""
    with output.open("ab") as file:
        for block in blocks(table, _changes(engine, step, before, rows)):
            data = msgspec.msgpack.encode(block)
            file.write(len(data).to_bytes(8, "big") + data)


def _changes(engine: Engine, step: TableStep, before: list[str], rows: Path) -> Iterator[RowChange]:
    """Rows in the order of their keys, which is that of their UTF-8 bytes."""
    old = {name: place for place, name in enumerate(before)}
    new = {name: place for place, name in enumerate(step.columns)}
    key_new, key_old = [new[k] for k in step.key], [old[step.renamed.get(k, k)] for k in step.key]
    cells = [
        " || chr(31) || ".join(f"coalesce({side}[{place + 1}], '')" for place in places)
        for side, places in (("after", key_new), ("before", key_old))
    ]
    key = f"CASE WHEN br IS NOT NULL THEN {cells[0]} ELSE {cells[1]} END"
    read = f"read_parquet([{literal(str(rows))}], hive_partitioning=false)"
    query = f"SELECT {key} AS key, ar, br, columns, before, after FROM {read} ORDER BY key"
    for batch in engine.batches(query):
        for one in batch.to_pylist():
            if one["ar"] is None:
                yield RowChange(one["key"], "added")
            elif one["br"] is None:
                yield RowChange(one["key"], "removed")
            else:
                names = list(one["columns"])
                was = [one["before"][old[step.renamed.get(name, name)]] for name in names]
                yield RowChange(one["key"], "changed", names, was, [one["after"][new[name]] for name in names])
