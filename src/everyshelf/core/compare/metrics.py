"""Metrics and parameters kept in files beside a model, before and after, with the direction that counts as better."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from typing import Any, Literal

from everyshelf.core.answers.models import MetricChange
from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.json import parse_json
from everyshelf.core.formats.yaml import parse_yaml
from everyshelf.core.kinds.beside import METRIC_NAMES
from everyshelf.core.outline.model import plain

Direction = Literal["lower", "higher"]
_MOST_BYTES = 1024 * 1024
_MOST_VALUES = 500
_MOST_DEPTH = 6
_HIGHER = ("accuracy", "precision", "recall", "f1", "auc", "r2", "score", "gain", "coverage", "iou", "map", "ndcg")
_LOWER = ("loss", "error", "mae", "mse", "rmse", "mape", "perplexity", "latency", "seconds", "time", "bias", "brier")


def metric_changes(
    before: Callable[[str], bytes | None] | None, after: Callable[[str], bytes | None] | None
) -> list[MetricChange]:
    """One entry for each value of each file, changed or not: where it stands, both values, and if it got better."""
    old, new = (_values(beside) if beside is not None else {} for beside in (before, after))
    changes = []
    for place in dict.fromkeys([*old, *new]):
        was, now = old.get(place), new.get(place)
        file, name = place
        better = _better(name, was, now) if file.startswith(("metrics", "scores")) else None
        changes.append(MetricChange(file=file, name=name, before=plain(was), after=plain(now), better=better))
    return changes[:_MOST_VALUES]


def _values(beside: Callable[[str], bytes | None]) -> dict[tuple[str, str], Any]:
    found: dict[tuple[str, str], Any] = {}
    for file in METRIC_NAMES:
        data = beside(file)
        if data is None or len(data) > _MOST_BYTES:
            continue
        try:
            tree = parse_json(data) if file.endswith(".json") else parse_yaml(data)
        except (UnreadableError, RecursionError):
            continue
        found |= {(file, name): value for name, value in _leaves(tree, "", 0)}
    return found


def _leaves(tree: Any, name: str, depth: int) -> Iterator[tuple[str, Any]]:
    if isinstance(tree, dict) and depth < _MOST_DEPTH:
        for key, value in tree.items():
            yield from _leaves(value, f"{name}.{key}" if name else str(key), depth + 1)
    elif isinstance(tree, list) and depth < _MOST_DEPTH and len(tree) <= 50:
        for place, value in enumerate(tree):
            yield from _leaves(value, f"{name}[{place}]", depth + 1)
    elif not isinstance(tree, dict | list):
        yield name, tree


def _better(name: str, before: Any, after: Any) -> bool | None:
    """True or False where the name says which direction is good; None where nobody can know, or nothing moved."""
    numbers = all(isinstance(v, int | float) and not isinstance(v, bool) for v in (before, after))
    if not numbers or before == after:
        return None
    direction = direction_of(name)
    if direction is None:
        return None
    return bool(after < before) if direction == "lower" else bool(after > before)


def direction_of(name: str) -> Direction | None:
    """Which direction is better, where the metric's name says it."""
    words = re.split(r"[^a-z0-9]+", name.lower())
    if any(word in _LOWER for word in words):
        return "lower"
    return "higher" if any(word in _HIGHER for word in words) else None
