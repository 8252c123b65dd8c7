"""What is looked for in a table: a row by its key, the texts that occur most."""

from __future__ import annotations

from collections.abc import Iterator

from everyshelf.core.tables.columns import Source
from everyshelf.core.tables.engine import Engine
from everyshelf.core.tables.expressions import shown


def find_row(engine: Engine, source: Source, columns: list[str], cells: list[str]) -> dict[str, str | None] | None:
    """The cells of the first row with these cells in these columns, as texts by column; None where the table does not have it."""
    places = {column.name: place for place, column in enumerate(source.columns)}
    if not set(columns) <= places.keys():
        return None
    told = [f"CAST({shown(column, f'c{place}')} AS VARCHAR)" for place, column in enumerate(source.columns)]
    tests = " AND ".join(f"coalesce({told[places[name]]}, '') = ?" for name in columns)
    query = f"SELECT {', '.join(told)} FROM {source.relation} WHERE {tests} ORDER BY r LIMIT 1"
    rows = engine.rows(query, list(cells))
    return dict(zip(places, rows[0], strict=True)) if rows else None


def common_texts(engine: Engine, source: Source, most: int, longest: int) -> Iterator[tuple[str, str, int]]:
    """Of each column of texts the ``most`` frequent ones of up to ``longest`` characters, with how often they occur."""
    for place, column in enumerate(source.columns):
        if column.family != "text":
            continue
        text = f"CAST({shown(column, f'c{place}')} AS VARCHAR)"
        query = (
            f"SELECT v, count(*) AS n FROM (SELECT {text} AS v FROM {source.relation}) "
            f"WHERE v IS NOT NULL AND v <> '' AND length(v) <= {longest} GROUP BY v ORDER BY n DESC, v LIMIT {most}"
        )
        for value, number in engine.rows(query):
            yield column.name, str(value), int(number)
