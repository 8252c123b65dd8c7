"""Columns of a table: what they are called, what their values are, and how those are written."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol

NUMBERS = ("integer", "decimal")
MOST_COLUMNS = 1_000  # the engine needs memory, and its planner a stack, in proportion to a table's width
AT_ONCE = 50  # columns that are asked about in one query
# Families in the order in which one holds all values of the one before it.
_INTEGER_BITS = {"TINYINT": 8, "SMALLINT": 16, "INTEGER": 32, "BIGINT": 64, "HUGEINT": 128}
_UNSIGNED_BITS = {"UTINYINT": 8, "USMALLINT": 16, "UINTEGER": 32, "UBIGINT": 64, "UHUGEINT": 128}
INTEGERS = frozenset(_INTEGER_BITS) - {"HUGEINT"} | frozenset(_UNSIGNED_BITS) - {"UBIGINT", "UHUGEINT"}
_FLOAT_BITS = {"FLOAT": 24, "DOUBLE": 53}
_DECIMAL = re.compile(r"DECIMAL\((\d+),(\d+)\)")


@dataclass(frozen=True)
class Column:
    """``family``: integer, decimal, text, date, time, timestamp, boolean, bytes, nested or empty.

    ``engine_type`` is what the engine holds it as. ``spelling`` says how texts write their values: "" plainly, else as
    in ``spelling``. ``declared`` is true where the file itself says the type.
    """

    name: str
    engine_type: str
    family: str
    spelling: str = ""
    declared: bool = False
    said: str = ""  # the type in the file's own words, where it says one that binds nobody

    @property
    def told_type(self) -> str:
        """The type as people read it: with its width where the file declares one."""
        if self.said:
            return self.said.lower()
        if not self.declared or self.family not in NUMBERS:
            return self.family
        bits = _INTEGER_BITS.get(self.engine_type) or _UNSIGNED_BITS.get(self.engine_type)
        if bits:
            return f"{'unsigned ' if self.engine_type in _UNSIGNED_BITS else ''}integer {bits}"
        if self.engine_type in _FLOAT_BITS:
            return "decimal 32" if self.engine_type == "FLOAT" else "decimal 64"
        found = _DECIMAL.fullmatch(self.engine_type)
        return f"decimal {found[1]}.{found[2]}" if found else self.family


class Rest(Protocol):
    """Rows of a table that are known to be in the other version too, so that nobody had to take them apart."""

    count: int
    sample: str  # relation with an even share of all rows, in the form of ``Source.relation``

    def is_key(self, places: Sequence[int]) -> bool:
        """True if these columns tell every row of the whole table from every other."""

    def whole(self) -> Source:
        """The table with all its rows; takes as long as opening it does."""


@dataclass
class Source:
    """A table known to the engine: ``relation`` has a column ``r`` (row number from 1) and ``c0``, ``c1`` … by place.

    ``layout`` says how it is written, which means nothing: format, encoding, compression, files. ``preamble`` are lines
    above the header.
    """

    relation: str
    columns: list[Column]
    row_count: int
    layout: dict[str, str] = field(default_factory=dict)
    preamble: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    in_order: bool = True  # columns come one after the other, rather than by name in each record
    rest: Rest | None = None  # rows known to be in the other version too, and not in ``relation``
    holds_records: bool = False  # cells that are records themselves
    file: Path | None = None  # the one Parquet file it is, of which other processes can read a part

    @property
    def left_out(self) -> int:
        """How many rows are not in ``relation``."""
        return self.rest.count if self.rest is not None else 0

    @property
    def names(self) -> list[str]:
        """The columns' names in order."""
        return [column.name for column in self.columns]


def family_of(engine_type: str) -> str:
    """The family of an engine's type."""
    if engine_type in _INTEGER_BITS or engine_type in _UNSIGNED_BITS:
        return "integer"
    if engine_type in _FLOAT_BITS or engine_type.startswith("DECIMAL"):
        return "decimal"
    if engine_type.endswith("[]") or engine_type.startswith(("STRUCT", "MAP", "UNION")) or "[" in engine_type:
        return "nested"
    if engine_type.startswith("TIMESTAMP"):
        return "timestamp"
    simple = {"DATE": "date", "TIME": "time", "BOOLEAN": "boolean", "BLOB": "bytes", "BIT": "bytes", "NULL": "empty"}
    return simple.get(engine_type, "time" if engine_type.startswith("TIME") else "text")


def change_of_type(before: Column, after: Column) -> str:
    """ "" (the same), "widened" (every value still fits), "narrowed" (some may not) or "retyped"."""
    if before.told_type == after.told_type or "empty" in (before.family, after.family):
        return ""
    if before.declared and after.declared:
        return _declared_change(before, after)
    if before.family == after.family:
        return ""
    if (before.family, after.family) in _WIDER:
        return "widened"
    if after.family == "text":
        return "retyped"  # a text can hold every number, but who reads numbers cannot read every text
    # Values that happen to be whole, or texts that happen to be numbers, are no narrower contract where no file says so.
    if before.family == "text" or (after.family, before.family) in _WIDER:
        return ""
    return "retyped"


_WIDER = {("integer", "decimal"), ("date", "timestamp")}


def _declared_change(before: Column, after: Column) -> str:
    if "text" in (before.family, after.family):
        return "narrowed" if before.family == "text" else "retyped"
    if before.family in NUMBERS and after.family in NUMBERS:
        old, new = _room(before.engine_type), _room(after.engine_type)
        if all(n >= o for o, n in zip(old, new, strict=True)):
            return "widened"
        if all(n <= o for o, n in zip(old, new, strict=True)):
            return "narrowed"
        return "retyped"
    if (before.family, after.family) in _WIDER:
        return "widened"
    return "narrowed" if (after.family, before.family) in _WIDER else "retyped"


def _room(engine_type: str) -> tuple[float, float, float]:
    """Bits of whole numbers kept exactly, digits after the point, and whether negative numbers fit."""
    if engine_type in _INTEGER_BITS:
        return _INTEGER_BITS[engine_type] - 1, 0, 1
    if engine_type in _UNSIGNED_BITS:
        return _UNSIGNED_BITS[engine_type], 0, 0
    if found := _DECIMAL.fullmatch(engine_type):
        return (int(found[1]) - int(found[2])) * 3.32, int(found[2]), 1
    return _FLOAT_BITS.get(engine_type, 53), 300 if engine_type == "DOUBLE" else 40, 1
