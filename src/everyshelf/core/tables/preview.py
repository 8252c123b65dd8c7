"""A table to look at: its columns with their profiles, its layout and its first rows."""

from __future__ import annotations

from everyshelf.core.answers.tables import TablePreview
from everyshelf.core.tables.columns import Source
from everyshelf.core.tables.comparing import column_types
from everyshelf.core.tables.engine import Engine
from everyshelf.core.tables.expressions import shown
from everyshelf.core.tables.profiles import profile_table


def preview(engine: Engine, source: Source, rows: int) -> TablePreview:
    """Cells as texts, None where there is none."""
    cells = ", ".join(shown(column, f"c{i}") for i, column in enumerate(source.columns))
    found = engine.rows(f"SELECT [{cells}] FROM (SELECT * FROM {source.relation} LIMIT {rows}) ORDER BY r")
    return TablePreview(
        columns=column_types(source),
        rows=[row[0] for row in found],
        row_count=source.row_count,
        dialect=source.layout,
        profiles=[profile.answer() for profile in profile_table(engine, source)],
    )
