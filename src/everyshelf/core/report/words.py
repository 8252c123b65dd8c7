"""What reports say of a finding, in words."""

from __future__ import annotations

from typing import Any

from everyshelf.core.answers.findings import FindingAnswer
from everyshelf.core.answers.models import ModelAnswer
from everyshelf.core.answers.tables import TableAnswer
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


def what(finding: FindingAnswer) -> str:
    """The field or what happened to the whole part."""
    return finding.detail if finding.detail in _ENDS else finding.field or finding.action


def sides(finding: FindingAnswer) -> tuple[str | None, str | None]:
    """Before and after as texts; None where there is no such side."""
    before, after = finding.before, finding.after
    if before is None and after is None:
        # How many cells, how far weights moved.
        return None, finding.detail if finding.detail and finding.detail not in _ENDS else None
    whole = finding.field is None
    old = None if whole and finding.action == "added" else value(before)
    new = None if whole and finding.action == "removed" else value(after)
    return old or None, new or None


def users(finding: FindingAnswer) -> list[str]:
    """Whom a breaking finding breaks, a line each."""
    return [f"{use.artifact}: {use.label} ({use.place}{'' if use.exact else ', a guess'})" for use in finding.used_by]


def cells_of(row: RowTold) -> str:
    """A row's cells in one line."""
    if row.action == "changed":
        return "; ".join(f"{c} {_cell(old)} → {_cell(new)}" for c, old, new in row.cells)
    return "; ".join(f"{c} {_cell(new if row.action == 'added' else old)}" for c, old, new in row.cells)


def _cell(given: str | None) -> str:
    return "empty" if given in (None, "") else given if len(given or "") <= 60 else f"{(given or '')[:58]}…"


def rows_of(table: TableAnswer) -> str:
    """A table's rows in one line."""
    rows = table.rows
    counts = {"changed": rows.changed, "added": rows.added, "removed": rows.removed}
    parts = [f"{group(count)} {action}" for action, count in counts.items() if count]
    key = f"matched by {', '.join(table.key)}" if table.key else "matched without a key"
    return f"{group(rows.before)} → {group(rows.after)} rows, {', '.join(parts) or 'all the same'}, {key}"


def measured(model: ModelAnswer) -> list[tuple[str, str, str, str]]:
    """Metrics beside a model that moved: name, before, after, and what that is."""
    told = {True: "▲ better", False: "▼ worse", None: "changed"}
    moved = [m for m in model.metrics if m.before != m.after]
    return [(m.name, value(m.before), value(m.after), told[m.better]) for m in moved]
