"""Tables: what became of columns, rows and cells, the first rows that differ, and profiles of the columns."""

from __future__ import annotations

from typing import Any, Literal

from everyshelf.core.answers.base import Answer
from everyshelf.core.answers.grids import SheetGrid

RowAction = Literal["added", "removed", "changed"]


class ColumnType(Answer):
    """A column's name and the type of its values."""

    name: str
    type: str


class RowCounts(Answer):
    """How many rows came, went and changed, and how many each side has."""

    added: int
    removed: int
    changed: int
    before: int
    after: int


class ColumnChanges(Answer):
    """Names of columns by what became of them; ``renamed`` as [before, after]."""

    added: list[str]
    removed: list[str]
    renamed: list[tuple[str, str]]
    retyped: list[str]
    widened: list[str]
    narrowed: list[str]
    reordered: bool


class CellCounts(Answer):
    """How many cells of a column differ in value, and how many only in how they are written."""

    changed: int
    representation_only: int


class TableSchema(Answer):
    """The columns of both sides, in their order."""

    before: list[ColumnType]
    after: list[ColumnType]


class DifferingRow(Answer):
    """A row that differs: its number on each side, the columns that changed, its cells as texts (null: not there)."""

    action: RowAction
    rows: tuple[int | None, int | None]
    columns: list[str]
    before: list[str | None] | None
    after: list[str | None] | None


class RowPage(Answer):
    """Some rows that differ, in the order of the newer table, and how many match what was asked for."""

    rows: list[DifferingRow]
    total: int
    start: int


class ColumnShift(Answer):
    """How far a column's values moved, by which measure, and the limit it is held against."""

    value: float
    measure: str
    limit: float
    beyond: bool


class ColumnNumbers(Answer):
    """How the values of a column lie, as numbers: for dates in seconds since 1970. ``spread``: the standard deviation.
    Mean and spread are null where they are too large for a number."""

    least: float
    lower_quartile: float
    median: float
    upper_quartile: float
    greatest: float
    mean: float | None
    spread: float | None


class ColumnValues(Answer):
    """One column on one side. ``top``: the most frequent values with their counts. ``sampled``: of how many rows
    quartiles, spread, ``top`` and ``bins`` are, where not of all; ``distinct`` is an estimate then."""

    rows: int
    nulls: int
    distinct: int
    sampled: int | None
    numbers: ColumnNumbers | None
    top: list[tuple[str, int]]
    bins: list[int]


class ColumnProfile(Answer):
    """A column's values before and after; ``edges`` are the bounds of ``bins`` where values are numbers or times."""

    column: str
    type: str
    is_time: bool
    before: ColumnValues | None
    after: ColumnValues | None
    edges: list[float]
    labels: list[str]
    shift: ColumnShift | None


class TableAnswer(Answer):
    """Two versions of one table. ``details``: the first rows that differ. Of a sheet also ``formulas``, by column how
    many formulas changed, ``recalculated`` (cells whose formula stayed and whose value did not), and its ``grid``."""

    rows: RowCounts
    key: list[str]
    columns: ColumnChanges
    cells: dict[str, CellCounts]
    schema: TableSchema
    details: list[DifferingRow]
    unrelated: bool
    profiles: list[ColumnProfile]
    formulas: dict[str, int] | None = None
    recalculated: int | None = None
    grid: SheetGrid | None = None


class FormulaPlace(Answer):
    """A cell of a preview that is worked out: its row and column, from 0."""

    row: int
    column: int
    formula: str


class TablePreview(Answer):
    """A table to look at: its columns, layout, first rows as texts, and profiles. Of a sheet also the numbers of the
    rows, and which cells are worked out."""

    columns: list[ColumnType]
    rows: list[list[str | None]]
    row_count: int
    dialect: dict[str, Any]
    profiles: list[ColumnProfile]
    formulas: list[FormulaPlace] | None = None
    numbers: list[int] | None = None


# What a condition on a column may ask, the longer ones first.
ROW_TESTS = ("is empty", "is not empty", "is not", "is", "contains", "over", "under")


class TableRows(Answer):
    """A page of a table, from the row ``start`` (from 0) in the order asked for: cells as texts, null where there is
    none. ``numbers``: where each row is in the table, from 1; ``total``: how many rows the conditions leave, of
    ``row_count`` in all."""

    columns: list[ColumnType]
    rows: list[list[str | None]]
    numbers: list[int]
    start: int
    total: int
    row_count: int


class ColumnFacts(Answer):
    """A column as its reader knows it; see ``tables.columns.Column``."""

    name: str
    engine_type: str
    family: str
    spelling: str = ""
    declared: bool = False
    said: str = ""


class TableFingerprint(Answer):
    """``digest``: equal for tables of the same columns and rows, empty for what is not a table. The rest describes the
    table without reading it; ``rows``: how many, ``layout`` and ``preamble`` as its reader has them."""

    digest: str
    rows: int = 0
    columns: list[ColumnFacts] = []
    layout: dict[str, str] = {}
    preamble: list[str] = []
    in_order: bool = False


NO_FINGERPRINT = TableFingerprint(digest="")
