"""What reports say of a finding, in words."""

from __future__ import annotations

from typing import Any

from everyshelf.core.compare.rows import RowTold
from everyshelf.core.compare.sentences import group

GLYPHS = {"added": "+", "removed": "−", "changed": "≠", "moved": "↷", "renamed": "↷", "reordered": "↷"}
_ENDS = ("leads to", "comes from")


def value(given: Any) -> str:
    """A value as people read it."""
    if given is None:
        return "none"
    if isinstance(given, bool):
        return str(given).lower()
    if isinstance(given, dict):
        return ", ".join(f"{k} {value(v)}" for k, v in given.items() if k not in ("id", "name"))
    if isinstance(given, list):
        return ", ".join(value(v) for v in given)
    return str(given)


def what(finding: dict[str, Any]) -> str:
    """The field or what happened to the whole part."""
    if finding.get("detail") in _ENDS:
        return str(finding["detail"])
    return str(finding.get("field") or finding["action"])


def sides(finding: dict[str, Any]) -> tuple[str | None, str | None]:
    """Before and after as texts; None where there is no such side."""
    before, after = finding.get("before"), finding.get("after")
    if before is None and after is None:
        said = finding.get("detail")  # how many cells, how far weights moved
        return None, str(said) if said and said not in _ENDS else None
    whole = finding.get("field") is None
    old = None if whole and finding["action"] == "added" else value(before)
    new = None if whole and finding["action"] == "removed" else value(after)
    return old or None, new or None


def users(finding: dict[str, Any]) -> list[str]:
    """Whom a breaking finding breaks, a line each."""
    return [
        f"{u['artifact']}: {u['label']} ({u['place']}{'' if u['exact'] else ', a guess'})"
        for u in finding.get("used_by", [])
    ]


def cells_of(row: RowTold) -> str:
    """A row's cells in one line."""
    if row.action == "changed":
        return "; ".join(f"{c} {_cell(old)} → {_cell(new)}" for c, old, new in row.cells)
    return "; ".join(f"{c} {_cell(new if row.action == 'added' else old)}" for c, old, new in row.cells)


def _cell(given: str | None) -> str:
    return "empty" if given in (None, "") else given if len(given or "") <= 60 else f"{(given or '')[:58]}…"


def rows_of(table: dict[str, Any]) -> str:
    """A table's rows in one line."""
    rows = table["rows"]
    parts = [f"{group(rows[s])} {s}" for s in ("changed", "added", "removed") if rows[s]]
    key = f"matched by {', '.join(table['key'])}" if table["key"] else "matched without a key"
    return f"{group(rows['before'])} → {group(rows['after'])} rows, {', '.join(parts) or 'all the same'}, {key}"


def measured(model: dict[str, Any]) -> list[tuple[str, str, str, str]]:
    """Metrics beside a model that moved: name, before, after, and what that is."""
    told = {True: "▲ better", False: "▼ worse", None: "changed"}
    moved = [m for m in model["metrics"] if m["before"] != m["after"]]
    return [(m["name"], value(m["before"]), value(m["after"]), told[m["better"]]) for m in moved]
