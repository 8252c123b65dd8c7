"""Interleaved rounds: every case of a figure runs once a round, in shuffled order, with files synced in between."""

from __future__ import annotations

import os
import random
import statistics
import time
from collections.abc import Callable
from dataclasses import dataclass

ROUNDS = 5


@dataclass(frozen=True)
class Figure:
    """One measured ratio or time beside its target; ``holds`` says whether it is reached."""

    name: str
    what: str
    value: float
    target: str
    holds: bool
    detail: str

    def line(self) -> str:
        """One row of the table ``make bench`` prints."""
        return (
            f"{self.name:<4} {self.what:<62} {self.value:>8.2f}  {self.target:<10} "
            f"{'holds' if self.holds else 'MISSED':<7} {self.detail}"
        )


def interleave(
    cases: dict[str, Callable[[], None]], rounds: int = ROUNDS, *, before: Callable[[], None] | None = None
) -> dict[str, float]:
    """Median seconds of each case; ``before`` runs, untimed, before each."""
    rng = random.Random(1)
    times: dict[str, list[float]] = {name: [] for name in cases}
    for _ in range(rounds):
        order = list(cases)
        rng.shuffle(order)
        for name in order:
            os.sync()
            if before is not None:
                before()
            start = time.perf_counter()
            cases[name]()
            times[name].append(time.perf_counter() - start)
    return {name: statistics.median(taken) for name, taken in times.items()}
