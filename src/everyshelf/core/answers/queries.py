"""Answers of queries over versions."""

from __future__ import annotations

from everyshelf.core.answers.base import Answer
from everyshelf.core.answers.tables import ColumnType


class QueriedTable(Answer):
    """What a name in a query stood for: an artifact (or a list of the shelf itself) at a state."""

    name: str
    path: str
    ref: str
    table: str = ""
    version: int | None = None


class QueryAnswer(Answer):
    """The first rows of a query, cells as texts (null: nothing there); ``more``: there are rows that are not shown."""

    columns: list[ColumnType]
    rows: list[list[str | None]]
    more: bool
    tables: list[QueriedTable] = []
