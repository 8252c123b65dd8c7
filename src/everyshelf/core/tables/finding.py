"""One row of a table, by its key."""

from __future__ import annotations

from everyshelf.core.tables.columns import Source
from everyshelf.core.tables.engine import Engine
from everyshelf.core.tables.expressions import shown


def find_row(engine: Engine, source: Source, columns: list[str], cells: list[str]) -> dict[str, str | None] | None:
    """The cells of the first row with these cells in these columns, as texts by column; None if there is none."""
    places = {column.name: place for place, column in enumerate(source.columns)}
    if not set(columns) <= places.keys():
        return None
    told = [f"CAST({shown(column, f'c{place}')} AS VARCHAR)" for place, column in enumerate(source.columns)]
    tests = " AND ".join(f"coalesce({told[places[name]]}, '') = ?" for name in columns)
    query = f"SELECT {', '.join(told)} FROM {source.relation} WHERE {tests} ORDER BY r LIMIT 1"
    rows = engine.rows(query, list(cells))
    return dict(zip(places, rows[0], strict=True)) if rows else None
