"""Rows of a table that differ, as people read them: the key, and what each changed cell was and is."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

_MOST_CELLS = 6


@dataclass(frozen=True)
class RowTold:
    """One row: what became of it, what names it, and its cells as (column, before, after)."""

    action: str
    name: str
    cells: list[tuple[str, str | None, str | None]]


def rows_told(table: dict[str, Any], most: int) -> list[RowTold]:
    """The first rows that differ in a comparison's ``table``."""
    names = {side: [c["name"] for c in table["schema"][side]] for side in ("before", "after")}
    renamed = {new: old for old, new in table["columns"]["renamed"]}
    return [_told(row, names, table["key"], renamed) for row in table["details"][:most]]


def _told(row: dict[str, Any], names: dict[str, list[str]], key: list[str], renamed: dict[str, str]) -> RowTold:
    before, after = row["before"], row["after"]

    def old(column: str) -> str | None:
        name = renamed.get(column, column)
        return before[names["before"].index(name)] if before is not None and name in names["before"] else None

    def new(column: str) -> str | None:
        return after[names["after"].index(column)] if after is not None and column in names["after"] else None

    number = row["rows"][0] if after is None else row["rows"][1]
    told = [(new(k) if after is not None else old(k)) or "" for k in key]
    name = ", ".join(told) if key else f"row {number}"
    if row["action"] == "changed":
        return RowTold("changed", name, [(c, old(c), new(c)) for c in row["columns"]])
    side = names["after"] if after is not None else names["before"]
    shown = [c for c in side if c not in key][:_MOST_CELLS]
    return RowTold(row["action"], name, [(c, old(c), new(c)) for c in shown])


def shifts_told(table: dict[str, Any]) -> list[dict[str, Any]]:
    """Columns with a measure of shift, the farthest first, without the key: column, value, measure, limit, beyond."""
    profiles = [p for p in table.get("profiles", []) if p["shift"] and p["column"] not in table["key"]]
    found = [{"column": p["column"], **p["shift"]} for p in profiles]
    return sorted(found, key=lambda shift: -shift["value"])
