"""Runs side by side: what they read, their parameters and metrics, against one of them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

from everyshelf.core.compare.metrics import Direction, direction_of

Group = Literal["reads", "parameters", "metrics"]
GROUPS: tuple[Group, ...] = ("reads", "parameters", "metrics")


@dataclass(frozen=True)
class RunRow:
    """A run as far as it is compared: versions read by artifact, parameters and metrics by name."""

    number: int
    reads: Mapping[str, Any] = field(default_factory=dict)
    parameters: Mapping[str, Any] = field(default_factory=dict)
    metrics: Mapping[str, float] = field(default_factory=dict)


def compare_runs(
    runs: Sequence[RunRow],
    base: int | None = None,
    said: Mapping[str, Mapping[str, Any]] | None = None,
    primary: str | None = None,
) -> dict[str, Any]:
    """Columns and cells of the table of runs.

    ``said``: per metric ``better`` ("lower" or "higher") and ``unit``; where nothing is said the name may tell. Each
    column says whether its values differ at all; each cell whether it ``differs`` from the base run, and for metrics
    ``change`` (a share of the base's value) and ``best``. Without a ``base`` the first run is it.
    """
    told = said or {}
    against = next((r for r in runs if r.number == base), runs[0] if runs else None)
    columns: list[dict[str, Any]] = []
    cells: dict[int, dict[str, Any]] = {run.number: {group: {} for group in GROUPS} for run in runs}
    for group in GROUPS:
        names = dict.fromkeys(name for run in runs for name in getattr(run, group))
        for name in names:
            column = _column(group, name, told.get(name, {}))
            values = [getattr(run, group).get(name) for run in runs]
            column["differs"] = any(not _same(v, values[0]) for v in values)
            best = _best(values, column["better"]) if group == "metrics" else None
            for run, value in zip(runs, values, strict=True):
                reference = getattr(against, group).get(name) if against is not None else None
                cell: dict[str, Any] = {"value": value, "differs": not _same(value, reference)}
                if group == "metrics":
                    cell["change"] = _change(reference, value)
                    cell["best"] = best is not None and value == best
                cells[run.number][group][name] = cell
            columns.append(column)
    metrics = [c for c in columns if c["group"] == "metrics"]
    known = {c["name"] for c in metrics}
    chosen = primary if primary in known else next((c["name"] for c in metrics if c["better"]), None)
    return {
        "base": against.number if against is not None else None,
        "primary": chosen or (metrics[0]["name"] if metrics else None),
        "columns": columns,
        "cells": cells,
    }


def _column(group: Group, name: str, said: Mapping[str, Any]) -> dict[str, Any]:
    better: Direction | None = None
    if group == "metrics":
        better = said.get("better") or direction_of(name)
    return {"group": group, "name": name, "better": better, "unit": said.get("unit", "")}


def _best(values: Sequence[float | None], better: Direction | None) -> float | None:
    known = [v for v in values if v is not None]
    if better is None or len(set(known)) < 2:
        return None
    return min(known) if better == "lower" else max(known)


def _change(before: float | None, after: float | None) -> float | None:
    if before is None or after is None or before == 0:
        return None
    return (after - before) / abs(before)


def _same(one: Any, other: Any) -> bool:
    """Equal as people read it: 8, 8.0 and "8" are one value, true and 1 are not."""
    if one is None or other is None:
        return one is None and other is None
    if isinstance(one, bool) or isinstance(other, bool):
        return one is other
    return one == other or str(one) == str(other) or _number(one) == _number(other) is not None


def _number(value: Any) -> float | None:
    try:
        return float(value)
    except (TypeError, ValueError):
        return None


def answer_so_far(table: Mapping[str, Any], runs: Sequence[RunRow]) -> str:
    """In one sentence what the best run did to the metric that counts most."""
    name = table["primary"]
    if not runs:
        return "No run yet."
    if name is None:
        return "No run has measured anything yet."
    column = next(c for c in table["columns"] if c["group"] == "metrics" and c["name"] == name)
    base = table["base"]
    cells = {run.number: table["cells"][run.number]["metrics"].get(name, {}) for run in runs}
    was = cells.get(base, {}).get("value")
    best = next((n for n, cell in cells.items() if cell.get("best")), None)
    unit = f" {column['unit']}" if column["unit"] else ""
    if was is None:
        return f"Run {base} measured no {name}."
    if best is None or best == base:
        why = "" if column["better"] else "; which direction is better is not known"
        return f"So far {name} is {told(was)}{unit} in run {base}, and no run did better{why}."
    now = cells[best]["value"]
    change = cells[best]["change"]
    share = f" ({_percent(change)})" if change is not None else ""
    return f"So far {name} went from {told(was)} to {told(now)}{unit}{share}, in run {best}."


def told(value: float) -> str:
    """A number as people write it: four digits that count."""
    return f"{value:,.0f}".replace(",", "\u202f") if abs(value) >= 10_000 else f"{value:.4g}"


def _percent(share: float) -> str:
    digits = f"{abs(share) * 100:.0f}" if abs(share) >= 0.1 else f"{abs(share) * 100:.1f}"
    return f"{'−' if share < 0 else '+'}{digits} %"
