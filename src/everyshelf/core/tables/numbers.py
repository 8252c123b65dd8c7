"""How the numbers of one column are spread: quartiles, bins, and the distance of two such distributions.

All of it is worked out from the sorted values, of which there are at most as many as a profile reads.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from everyshelf.core.tables.engine import Engine

NAMES = ("least", "lower_quartile", "median", "upper_quartile", "greatest", "mean", "spread")
_SHARES = (0.25, 0.5, 0.75)


class Numbers:
    """The finite numbers of a column, in order; ``filled`` counts all its cells that are not empty."""

    def __init__(self, values: NDArray[np.float64], filled: int) -> None:
        self.values = np.sort(values[np.isfinite(values)])
        self.filled = filled
        count = len(self.values)
        # Where each different value ends: so many values are not greater than it.
        self._ends = np.append(np.flatnonzero(np.diff(self.values)) + 1, np.full(min(count, 1), count))

    @property
    def distinct(self) -> int:
        """Number of different values; all values that are not finite count as one."""
        return len(self._ends) + (self.filled > len(self.values))

    @property
    def singles(self) -> int:
        """Number of values that occur once."""
        return int(np.count_nonzero(np.diff(self._ends, prepend=0) == 1))

    def summary(self) -> dict[str, float] | None:
        """Least, quartiles, greatest, mean and spread (standard deviation); None if no value is finite."""
        count = len(self.values)
        if not count:
            return None
        places = [min(int(np.ceil(share * self.filled)), count) - 1 for share in _SHARES]
        found = [self.values[0], *self.values[places], self.values[-1], self.values.mean(), self.values.std()]
        return dict(zip(NAMES, map(float, found), strict=True))

    def binned(self, low: float, width: float, bins: int) -> list[int]:
        """How many lie in each of so many bins of a width; what lies outside counts to the first or last."""
        places = np.clip(np.floor((self.values - low) / width), 0, bins - 1).astype(np.int64)
        return [int(count) for count in np.bincount(places, minlength=bins)]

    def distance(self, other: Numbers) -> float:
        """The largest difference of the shares of values up to any point (Kolmogorov-Smirnov)."""
        points = np.concatenate((self._different, other._different))
        points.sort(kind="stable")  # two runs that are in order already
        apart = self._share_up_to(points) - other._share_up_to(points)
        return float(np.abs(apart).max(initial=0.0))

    @property
    def _different(self) -> NDArray[np.float64]:
        different: NDArray[np.float64] = self.values[self._ends - 1]
        return different

    def _share_up_to(self, points: NDArray[np.float64]) -> NDArray[np.float64]:
        places = np.searchsorted(self._different, points, "right")
        return np.concatenate(([0], self._ends))[places] / max(self.filled, 1)


def read_numbers(engine: Engine, relation: str, columns: Sequence[tuple[str, str]]) -> list[Numbers]:
    """The numbers of several columns, each given as SQL of the number and of whether the cell is filled."""
    wanted = ", ".join(f"({number})::DOUBLE AS x{n}" for n, (number, _) in enumerate(columns))
    pieces: list[list[NDArray[np.float64]]] = [[] for _ in columns]
    for batch in engine.batches(f"SELECT {wanted} FROM {relation}"):
        for place, piece in enumerate(pieces):
            piece.append(batch.column(place).to_numpy(zero_copy_only=False).astype(np.float64, copy=False))
    counts = engine.row(
        f"SELECT {', '.join(f'count(*) FILTER (WHERE {filled})' for _, filled in columns)} FROM {relation}"
    )
    empty = np.empty(0, np.float64)
    return [
        Numbers(np.concatenate(piece) if piece else empty, int(filled))
        for piece, filled in zip(pieces, counts, strict=True)
    ]
