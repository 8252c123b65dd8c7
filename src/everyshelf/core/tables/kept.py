"""Rows that differ, kept for looking at: the first with the answer, all of them in a file that is read by pages."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from everyshelf.core.answers.tables import DifferingRow, RowPage
from everyshelf.core.tables.engine import Engine, literal
from everyshelf.core.tables.keep import MOST_KEPT, Keep


def kept(engine: Engine, rows: str, keep: Keep) -> list[DifferingRow]:
    """``rows``: SQL giving mark, ar, br, columns, before, after; marks order them as the newer table does."""
    if keep.path is None:
        return [_row(row) for row in engine.rows(f"SELECT * FROM ({rows}) ORDER BY mark LIMIT {keep.first}")]
    engine.run(
        f"COPY (SELECT * FROM ({rows}) ORDER BY mark LIMIT {MOST_KEPT}) TO {literal(str(keep.path))} "
        f"(FORMAT parquet, COMPRESSION zstd)"
    )
    return page(engine, keep.path, 0, keep.first).rows


def page(engine: Engine, path: Path, start: int, count: int, *, action: str = "", column: str = "") -> RowPage:
    """Some of the rows kept in a file, and how many there are of that action and with a change in that column."""
    tests = ["true"]
    if action:
        tests.append({"added": "ar IS NULL", "removed": "br IS NULL"}.get(action, "ar IS NOT NULL AND br IS NOT NULL"))
    if column:
        tests.append(f"list_contains(columns, {literal(column)})")
    read = f"read_parquet([{literal(str(path))}], hive_partitioning=false) WHERE {' AND '.join(tests)}"
    total = engine.row(f"SELECT count(*) FROM {read}")[0]
    rows = engine.rows(f"SELECT * FROM {read} ORDER BY mark LIMIT {int(count)} OFFSET {int(start)}")
    return RowPage(rows=[_row(row) for row in rows], total=total, start=start)


def _row(row: tuple[Any, ...]) -> DifferingRow:
    _, old, new, changed, before, after = row
    return DifferingRow(
        action="added" if old is None else "removed" if new is None else "changed",
        rows=(old, new),
        columns=list(changed),
        before=None if old is None else before,
        after=None if new is None else after,
    )
