"""Table against table: columns first, then rows by key, then cells.

Rows are matched by a declared key, or by the smallest set of columns that is unique in both tables; without any they
are compared as multisets. Two numbers tell of each changed column: cells that differ in value, and cells that differ
only in how the same value is written.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from decimal import Decimal, InvalidOperation
from itertools import combinations
from typing import Any

from everyshelf.core.compare.result import TableCounts
from everyshelf.core.errors import InvalidError
from everyshelf.core.formats.tables import Table
from everyshelf.core.kinds.shapes import is_id_like
from everyshelf.core.outline.model import Effect, Finding, Step

_INTEGER = re.compile(r"[-+]?\d+\Z")
_DECIMAL = re.compile(r"[-+]?(\d+\.?\d*|\.\d+)([eE][-+]?\d+)?\Z")
_DATE = re.compile(r"\d{4}-\d\d-\d\d([T ]\d\d:\d\d(:\d\d(\.\d+)?)?(Z|[-+]\d\d:?\d\d)?)?\Z")
_WIDTH = {"integer": 1, "decimal": 2, "date": 1, "text": 3}
_RENAME_SHARE = 0.9
_KEY_COLUMNS = 12
_SAMPLES = 200

Row = tuple[str, ...]


def compare_tables(
    before: Table, after: Table, declared_key: Sequence[str] | None = None, column_type: str = "column"
) -> tuple[list[Finding], TableCounts, str]:
    """Findings (decision: one per column and kind of change, one for rows added, one for rows removed), the exact
    counts, and a note (empty if there is nothing to say). Raises ``InvalidError`` for a declared key that is missing.
    """
    return _TableRun(before, after, declared_key, column_type).run()


class _TableRun:
    def __init__(self, before: Table, after: Table, declared_key: Sequence[str] | None, column_type: str) -> None:
        self._old, self._new = before, after
        self._declared = tuple(declared_key or ())
        self._column_type = column_type
        self._findings: list[Finding] = []
        self._renamed = _renamed_columns(before, after)
        new_names = dict(self._renamed)
        self._shared = [(c, new_names.get(c, c)) for c in before.columns if new_names.get(c, c) in after.columns]
        self._samples: list[dict[str, Any]] = []
        self._cells: dict[str, dict[str, int]] = {}

    def run(self) -> tuple[list[Finding], TableCounts, str]:
        columns = self._columns()
        key, note = self._key()
        rows = self._rows_by_key(key) if key else self._rows_as_multiset()
        self._say_rows(rows, key)
        self._say_dialect()
        counts = {**rows, "before": len(self._old.rows), "after": len(self._new.rows)}
        return self._findings, TableCounts(counts, list(key), columns, self._cells, self._samples), note

    # --- columns -----------------------------------------------------------

    def _columns(self) -> dict[str, Any]:
        old, new = self._old.columns, self._new.columns
        gone_names, new_names = {o for o, _ in self._renamed}, {n for _, n in self._renamed}
        removed = [c for c in old if c not in new and c not in gone_names]
        added = [c for c in new if c not in old and c not in new_names]
        types = self._types()
        for name in removed:
            self._say("removed", name, "breaks", before=column_type(self._old, name))
        for name in added:
            self._say("added", name, "alters", after=column_type(self._new, name))
        for before, after in self._renamed:
            self._say("renamed", after, "breaks", before=before, after=after)
        kept_old = [n for _, n in self._shared]
        kept_new = [c for c in new if c in set(kept_old)]
        reordered = kept_old != kept_new
        if reordered:
            self._findings.append(Finding("reordered", "/", "table", "columns", "cosmetic"))
        return {
            "added": added,
            "removed": removed,
            "renamed": [list(p) for p in self._renamed],
            "reordered": reordered,
            **types,
        }

    def _types(self) -> dict[str, list[str]]:
        found: dict[str, list[str]] = {"retyped": [], "widened": [], "narrowed": []}
        for old_name, name in self._shared:
            before, after = column_type(self._old, old_name), column_type(self._new, name)
            if before == after or "empty" in (before, after):
                continue
            widened = after == "text" or (before, after) == ("integer", "decimal")
            narrowed = before == "text" or (before, after) == ("decimal", "integer")
            # Values that happen to be whole, or a text column that happens to hold numbers, are no narrower contract:
            # the cells tell what changed. Only a change between unlike types is.
            if narrowed:
                continue
            found["widened" if widened else "retyped"].append(name)
            self._say("changed", name, "alters" if widened else "breaks", field="type", before=before, after=after)
        return found

    def _say(
        self,
        action: Step,
        name: str,
        effect: Effect,
        *,
        field: str | None = None,
        before: Any = None,
        after: Any = None,
        detail: str = "",
    ) -> None:
        path = f"/{self._column_type}:{name.replace('/', '%2F')}"
        self._findings.append(Finding(action, path, self._column_type, name, effect, field, before, after, detail))

    # --- rows --------------------------------------------------------------

    def _key(self) -> tuple[tuple[str, ...], str]:
        names = [o for o, _ in self._shared]
        if self._declared:
            missing = [c for c in self._declared if c not in names]
            if missing:
                raise InvalidError(
                    f"the key column {missing[0]!r} is not in both tables",
                    code="key.missing",
                    hint=f"Columns in both: {', '.join(names) or 'none'}.",
                )
            if not (self._is_unique(self._old, self._declared) and self._is_unique(self._new, self._new_key())):
                return (), f"the key {', '.join(self._declared)} is not unique, so rows were compared without one"
            return self._declared, ""
        ranked = sorted(names[:_KEY_COLUMNS], key=lambda n: (is_id_like(n) is None, names.index(n)))
        for size in (1, 2, 3):
            for fields in combinations(ranked, size):
                if self._is_usable(fields):
                    return fields, ""
        return (), "" if names else "the two tables share no column: they are unrelated"

    def _new_key(self) -> tuple[str, ...]:
        renamed = dict(self._renamed)
        return tuple(renamed.get(c, c) for c in self._declared)

    def _is_usable(self, fields: tuple[str, ...]) -> bool:
        """Unique in both tables, and naming rows of both: a column of measurements may be unique by chance."""
        renamed = dict(self._shared)
        old, new = _keys(self._old, fields), _keys(self._new, tuple(renamed[f] for f in fields))
        set_old, set_new = set(old), set(new)
        if len(set_old) < len(old) or len(set_new) < len(new):
            return False
        overlap = len(set_old & set_new) / max(1, min(len(set_old), len(set_new)))
        id_like = any(is_id_like(f) is not None for f in fields)
        return overlap >= (0.1 if id_like else 0.5)

    @staticmethod
    def _is_unique(table: Table, fields: tuple[str, ...]) -> bool:
        keys = _keys(table, fields)
        return len(set(keys)) == len(keys)

    def _rows_by_key(self, key: tuple[str, ...]) -> dict[str, int]:
        renamed = dict(self._shared)
        old = dict(zip(_keys(self._old, key), self._old.rows, strict=True))
        new = dict(zip(_keys(self._new, tuple(renamed[k] for k in key)), self._new.rows, strict=True))
        places = [
            (name, self._old.columns.index(o), self._new.columns.index(name))
            for o, name in self._shared
            if o not in key
        ]
        aligned = [p for _, _, p in places] == [p for _, p, _ in places] and self._old.columns == self._new.columns
        changed = 0
        for identity, row in old.items():
            other = new.get(identity)
            if other is None or (aligned and row == other):
                continue
            changed += self._row(identity, row, other, places)
        return {"added": sum(k not in old for k in new), "removed": sum(k not in new for k in old), "changed": changed}

    def _row(self, identity: Row, row: Row, other: Row, places: list[tuple[str, int, int]]) -> bool:
        real = False
        for name, i, j in places:
            before, after = _cell(row, i), _cell(other, j)
            if before == after:
                continue
            counts = self._cells.setdefault(name, {"changed": 0, "representation_only": 0})
            if _same_cell(before, after):
                counts["representation_only"] += 1
                continue
            counts["changed"] += 1
            real = True
            if len(self._samples) < _SAMPLES:
                self._samples.append({"key": list(identity), "column": name, "before": before, "after": after})
        return real

    def _rows_as_multiset(self) -> dict[str, int]:
        old_places = [self._old.columns.index(o) for o, _ in self._shared]
        new_places = [self._new.columns.index(n) for _, n in self._shared]
        old = Counter(tuple(_cell(r, i) for i in old_places) for r in self._old.rows)
        new = Counter(tuple(_cell(r, i) for i in new_places) for r in self._new.rows)
        return {"added": (new - old).total(), "removed": (old - new).total(), "changed": 0}

    # --- findings ----------------------------------------------------------

    def _say_rows(self, rows: dict[str, int], key: tuple[str, ...]) -> None:
        actions: tuple[Step, ...] = ("added", "removed")
        for action in actions:
            if rows[action]:
                label = f"{rows[action]:,} row{'s' if rows[action] > 1 else ''}".replace(",", " ")
                self._findings.append(Finding(action, "/rows", "rows", label, "alters", detail=", ".join(key)))
        for name, counts in self._cells.items():
            if counts["changed"]:
                self._say("changed", name, "alters", detail=_many(counts["changed"], "cell"))
            if counts["representation_only"]:
                self._say("changed", name, "cosmetic", detail=_many(counts["representation_only"], "cell") + " respelt")

    def _say_dialect(self) -> None:
        for name, before in self._old.dialect.items():
            after = self._new.dialect.get(name)
            if before != after:
                self._findings.append(Finding("changed", "/", "table", "dialect", "cosmetic", name, before, after))
        if self._old.preamble != self._new.preamble:
            before, after = "\n".join(self._old.preamble), "\n".join(self._new.preamble)
            self._findings.append(
                Finding("changed", "/", "table", "lines above the header", "cosmetic", "preamble", before, after)
            )


def _many(count: int, noun: str) -> str:
    return f"{count:,} {noun}{'' if count == 1 else 's'}".replace(",", " ")


def _cell(row: Row, place: int) -> str:
    return row[place] if place < len(row) else ""


def _keys(table: Table, fields: tuple[str, ...]) -> list[Row]:
    places = [table.columns.index(f) for f in fields]
    if len(places) == 1:
        place = places[0]
        return [(_cell(row, place),) for row in table.rows]
    return [tuple(_cell(row, p) for p in places) for row in table.rows]


def _same_cell(before: str, after: str) -> bool:
    """True if both cells write the same value: white space, or another spelling of one number."""
    a, b = before.strip(), after.strip()
    if a == b:
        return True
    if not (_DECIMAL.match(a) and _DECIMAL.match(b)) or _coded(a) or _coded(b):
        return False
    try:
        return Decimal(a) == Decimal(b)
    except InvalidOperation:
        return False


def _coded(text: str) -> bool:
    """True for digits with leading noughts: 007 is a code, not another way to write 7."""
    digits = text.lstrip("+-")
    return len(digits) > 1 and digits[0] == "0" and digits[1].isdigit()


def column_type(table: Table, name: str) -> str:
    """integer, decimal, date, text, or empty; of all cells that are not empty."""
    place = table.columns.index(name)
    values = {_cell(row, place).strip() for row in table.rows}
    values -= {"", "NA", "null", "NULL", "NaN"}
    if not values:
        return "empty"
    for label, pattern in (("integer", _INTEGER), ("decimal", _DECIMAL), ("date", _DATE)):
        if all(pattern.match(v) for v in values):
            return "text" if label == "integer" and any(_coded(v) for v in values) else label
    return "text"


def _renamed_columns(before: Table, after: Table) -> list[tuple[str, str]]:
    """Columns whose name went and whose values came back under another name."""
    gone = [c for c in before.columns if c not in after.columns]
    come = [c for c in after.columns if c not in before.columns]
    result = []
    for name in gone:
        old = _values(before, name)
        scored = [(_share(old, _values(after, c)), -come.index(c), c) for c in come]
        # Two columns of two values each look alike by chance; at least four different values must agree.
        if scored and max(scored)[0] >= _RENAME_SHARE and (len(old) >= 4 or len(gone) == len(come) == 1):
            best = max(scored)[2]
            result.append((name, best))
            come.remove(best)
    return result


def _values(table: Table, name: str) -> Counter[str]:
    place = table.columns.index(name)
    return Counter(_cell(row, place) for row in table.rows)


def _share(before: Counter[str], after: Counter[str]) -> float:
    return (before & after).total() / max(1, min(before.total(), after.total()))
