"""SQL for the cells of one column on both sides: brought to one form, and judged equal, respelt, rounded or changed."""

from __future__ import annotations

from dataclasses import dataclass

from everyshelf.core.tables.columns import NUMBERS, Column
from everyshelf.core.tables.spelling import plain

# What may have become of a cell.
# ``TIED``: rounded from exactly between two values, which the rest of the column has to bear out.
EQUAL, RESPELT, CHANGED, ROUNDED, TIED = 0, 1, 2, 3, 4


@dataclass(frozen=True)
class Pair:
    """One column, as it was (``c<old_place>``) and as it is (``c<new_place>``)."""

    before: Column
    old_place: int
    after: Column
    new_place: int

    @property
    def name(self) -> str:
        """What the column is called now."""
        return self.after.name

    @property
    def is_native(self) -> bool:
        """True if both sides hold values the engine compares as they are."""
        old, new = self.before, self.after
        if old.spelling != new.spelling:
            return False
        return old.engine_type == new.engine_type or (_is_number(old) and _is_number(new))

    @property
    def is_decimal(self) -> bool:
        """True for numbers with a fraction that the engine holds as numbers."""
        return self.is_native and _is_number(self.before) and "decimal" in (self.before.family, self.after.family)

    @property
    def needs_judging(self) -> bool:
        """True if a difference of texts may be one of spelling alone; where a file declares texts, it is not."""
        if self.is_native and self.before.engine_type != "VARCHAR":
            return False
        return not (self.before.declared and self.after.declared)

    def is_plain(self, tolerance: float | None) -> bool:
        """True if cells that are not the same have another value, whatever they hold."""
        return self.is_native and tolerance is None and not self.is_decimal and not self.needs_judging

    def old_value(self, table: str) -> str:
        """The value before, in the form in which both sides are matched."""
        return self._value(self.before, f"{table}.c{self.old_place}")

    def new_value(self, table: str) -> str:
        """The value after, in the form in which both sides are matched."""
        return self._value(self.after, f"{table}.c{self.new_place}")

    def _value(self, column: Column, cell: str) -> str:
        if self.is_native:
            return cell
        text = plain_text(column, cell)
        if "decimal" in (self.before.family, self.after.family):
            return f"coalesce(es_number(trim({text})), trim({text}))"
        return f"trim({text})"

    def hashed(self, table: str, *, old: bool) -> str:
        """What stands for the cell in its row's hash: equal for cells that are equal, whatever type holds them."""
        column, place = (self.before, self.old_place) if old else (self.after, self.new_place)
        cell = f"{table}.c{place}"
        if not self.is_native:
            # Types differ: equal in text is equal; otherwise the texts as they are, so that a respelling is noticed.
            return plain_text(column, cell) if self.before.engine_type != self.after.engine_type else cell
        if self.before.engine_type == self.after.engine_type:
            return cell
        return f"CAST({cell} AS {'DOUBLE' if self.is_decimal else 'HUGEINT'})"

    def old_text(self) -> str:
        """The cell ``a.c<n>`` in its plain spelling."""
        return plain_text(self.before, f"a.c{self.old_place}")

    def new_text(self) -> str:
        """The cell ``b.c<n>`` in its plain spelling."""
        return plain_text(self.after, f"b.c{self.new_place}")

    def state(self, tolerance: float | None) -> str:
        """SQL for what a first look says of the cells ``a.c<n>`` and ``b.c<n>``: equal, respelt or changed."""
        old, new = f"a.c{self.old_place}", f"b.c{self.new_place}"
        if not self.is_native:
            same = f"{self.old_text()} IS NOT DISTINCT FROM {self.new_text()}"
            if self.before.engine_type != self.after.engine_type:
                return f"CASE WHEN {same} THEN {EQUAL} ELSE {CHANGED} END"
            return (
                f"CASE WHEN {old} IS NOT DISTINCT FROM {new} THEN {EQUAL} WHEN {same} THEN {RESPELT} ELSE {CHANGED} END"
            )
        whens = [f"WHEN {old} IS NOT DISTINCT FROM {new} THEN {EQUAL}"]
        if tolerance is not None and _is_number(self.before):
            whens.append(f"WHEN abs({old} - {new}) <= {tolerance!r} * 1.000000000001 THEN {RESPELT}")
        if self.is_decimal:
            # Less than the last bits can tell.
            a, b = f"CAST({old} AS DOUBLE)", f"CAST({new} AS DOUBLE)"
            whens.append(f"WHEN abs({a} - {b}) <= 1e-12 * greatest(abs({a}), abs({b})) THEN {RESPELT}")
        return f"CASE {' '.join(whens)} ELSE {CHANGED} END"


# A closer look at two texts ``o`` and ``w`` in plain spelling, with the tolerance ``t`` (NULL: none declared).
JUDGED = (
    f"CASE WHEN o IS NOT DISTINCT FROM w THEN {RESPELT} WHEN o IS NULL OR w IS NULL THEN {CHANGED} "
    f"WHEN trim(o) = trim(w) THEN {RESPELT} WHEN es_number(trim(o)) = es_number(trim(w)) THEN {RESPELT} "
    f"WHEN t IS NOT NULL AND abs(TRY_CAST(o AS DOUBLE) - TRY_CAST(w AS DOUBLE)) <= t * 1.000000000001 THEN {RESPELT} "
    f"WHEN greatest(es_fraction(o), es_fraction(w)) > 8 AND "
    f"es_noise(TRY_CAST(o AS DOUBLE), TRY_CAST(w AS DOUBLE)) THEN {RESPELT} "
    f"WHEN es_rounded(trim(o), trim(w)) THEN {ROUNDED} WHEN es_tied(trim(o), trim(w)) THEN {TIED} "
    f"WHEN es_single(TRY_CAST(o AS DOUBLE), TRY_CAST(w AS DOUBLE)) THEN {ROUNDED} ELSE {CHANGED} END"
)


def plain_text(column: Column, cell: str) -> str:
    """The cell as a text in the plain spelling of its family."""
    if column.engine_type == "VARCHAR":
        return plain(cell, column.family, column.spelling)
    if column.engine_type == "BLOB":
        return f"hex({cell})"
    if column.engine_type == "TIMESTAMP WITH TIME ZONE":
        cell = f"CAST({cell} AS TIMESTAMP)"  # the same instant in UTC, as files without zones hold it
    text = f"CAST({cell} AS VARCHAR)"
    return f"es_when({text})" if column.family in ("date", "timestamp") else text


def shown(column: Column, cell: str) -> str:
    """The cell as people read it."""
    if column.engine_type == "BLOB":
        return f"left(hex({cell}), 64)"
    return f"left({cell}, 2000)" if column.engine_type == "VARCHAR" else f"CAST({cell} AS VARCHAR)"


def _is_number(column: Column) -> bool:
    return column.family in NUMBERS and column.engine_type != "VARCHAR"
