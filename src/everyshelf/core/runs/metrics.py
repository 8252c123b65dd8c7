"""The metrics of a run: single values and courses, whoever read or sent them."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any

Point = tuple[float, float]

MOST_METRICS = 500
MOST_POINTS = 1_000_000
# Columns that count steps and measure nothing.
STEPS = ("step", "round", "epoch", "iteration", "iter", "batch", "index", "tick")


@dataclass
class Measured:
    """Single values by name, and courses: for each name its points (step, value), steps in the order written."""

    metrics: dict[str, float] = field(default_factory=dict)
    series: dict[str, list[Point]] = field(default_factory=dict)

    def take(self, other: Measured) -> None:
        """Add what another file or program says; the later word counts."""
        self.metrics.update(other.metrics)
        self.series.update(other.series)

    def completed(self) -> Measured:
        """With the last value of a course as the metric, where nothing says what that is."""
        for name, points in self.series.items():
            if points:
                self.metrics.setdefault(name, points[-1][1])
        return self


def number_of(value: Any) -> float | None:
    """A finite number, also written as a text; None for anything else, truth values included."""
    if isinstance(value, bool) or value is None or isinstance(value, dict | list):
        return None
    try:
        number = float(value)
    except (TypeError, ValueError):
        return None
    return number if math.isfinite(number) else None
