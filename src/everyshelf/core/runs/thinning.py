"""Fewer points of a course, for drawing it.

Largest triangle three buckets: of each bucket the point that spans the largest triangle with the one kept before and
the mean of the bucket after it, so that what the eye sees stays (Steinarsson, "Downsampling Time Series for Visual
Representation", University of Iceland, 2013).
"""

from __future__ import annotations

from collections.abc import Sequence

Point = tuple[float, float]


def thinned(points: Sequence[Point], most: int) -> list[Point]:
    """At most ``most`` (at least 3) of the points, first and last among them, in their order."""
    count = len(points)
    if count <= most:
        return list(points)
    width = (count - 2) / (most - 2)
    kept = [points[0]]
    for bucket in range(most - 2):
        start, stop = int(bucket * width) + 1, int((bucket + 1) * width) + 1
        after = points[stop : min(int((bucket + 2) * width) + 1, count)] or [points[-1]]
        mean_x = sum(x for x, _ in after) / len(after)
        mean_y = sum(y for _, y in after) / len(after)
        last_x, last_y = kept[-1]
        kept.append(
            max(
                points[start:stop],
                key=lambda p: abs((last_x - mean_x) * (p[1] - last_y) - (last_x - p[0]) * (mean_y - last_y)),
            )
        )
    return [*kept, points[-1]]
