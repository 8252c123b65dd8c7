"""Tensors: shape, type and bytes, and how far one lies from another."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from blake3 import blake3

_PIECE = 1 << 16  # values looked at in one go: as many as stay in a cache
_SAMPLE = 100_000
# Types numpy has no name for, by how many bits a value takes.
_BITS = {"bf16": 16, "f8_e4m3": 8, "f8_e5m2": 8, "i4": 4, "u4": 4}
_BINS = 24


@dataclass(eq=False)
class Tensor:
    """``dtype`` as numpy spells it (``<f4``) or ``bf16``; ``load`` gives the bytes, or None where they are not here.

    ``where``: the file that holds them, if that is another.
    """

    name: str
    shape: tuple[int, ...]
    dtype: str
    load: Callable[[], Any] = field(repr=False)
    where: str = ""

    @property
    def size(self) -> int:
        """How many values the shape holds."""
        count = 1
        for length in self.shape:
            count *= length
        return count

    @property
    def told_type(self) -> str:
        """The type as people say it: float32, int64."""
        return told_type(self.dtype)

    @cached_property
    def digest(self) -> str | None:
        """Of the bytes; None where they are not here."""
        data = self.load()
        return None if data is None else blake3(data).hexdigest(16)


def told_type(dtype: str) -> str:
    """``<f4`` as float32; a name numpy does not know stays as it is."""
    import numpy as np

    if dtype in _BITS:
        return {"bf16": "bfloat16"}.get(dtype, dtype)
    try:
        return np.dtype(dtype).name
    except (TypeError, ValueError):
        return dtype


@dataclass(frozen=True)
class Distance:
    """How far ``after`` lies from ``before``.

    ``relative``: Frobenius norm of the difference over that of ``before`` (None where that is zero); ``largest``: the
    largest absolute change; ``share``: part of the values that differ; ``bins``: how many values changed by how much,
    between the two bounds of ``within`` (empty if none did; of a sample where there are many).
    """

    relative: float | None
    largest: float
    share: float
    within: tuple[float, float]
    bins: list[int]


def distance(before: Tensor, after: Tensor) -> Distance | None:
    """None where the two cannot be compared value by value: other shapes, no numbers, or bytes that are not here."""
    import numpy as np

    if before.shape != after.shape:
        return None
    old, new = (_values(t) for t in (before, after))
    if old is None or new is None or old.size != new.size or not old.size:
        return None
    total = norm = low = high = 0.0
    differing = 0
    with np.errstate(all="ignore"):
        for at in range(0, old.size, _PIECE):
            one, other = (side[at : at + _PIECE] for side in (old, new))
            apart = _apart(one, other)
            differing += int(np.count_nonzero(one != other))
            squares = float(np.dot(apart, apart))
            if squares != squares or squares == float("inf"):  # infinite values say nothing of how far
                differing -= int(np.count_nonzero((one != one) & (other != other)))
                apart = apart[np.isfinite(apart)]
                squares = float(np.dot(apart.astype(np.float64), apart)) if apart.size else 0.0
            if apart.size:
                low, high = min(low, float(apart.min())), max(high, float(apart.max()))
            total += squares
            norm += _norm(one)
        bins = _bins(old, new, low, high)
    relative = (total**0.5) / (norm**0.5) if norm else None
    return Distance(relative, max(-low, high), differing / old.size, (low, high), bins)


def _apart(one: Any, other: Any) -> Any:
    """The difference; as wide as it has to be so that nothing overflows."""
    import numpy as np

    wide = np.float32 if one.dtype == other.dtype and one.dtype.kind == "f" and one.dtype.itemsize <= 4 else np.float64
    return np.subtract(other, one, dtype=wide)


def _norm(piece: Any) -> float:
    import numpy as np

    wide = np.asarray(piece, dtype=np.float32 if piece.dtype == np.float32 else np.float64)
    found = float(np.dot(wide, wide))
    if found != found or found == float("inf"):
        known = wide[np.isfinite(wide)].astype(np.float64)
        found = float(np.dot(known, known))
    return found


def _bins(old: Any, new: Any, low: float, high: float) -> list[int]:
    """How many of at most ``_SAMPLE`` values, taken at even steps, changed by how much."""
    import numpy as np

    if not high > low:
        return []
    step = max(1, old.size // _SAMPLE)
    apart = _apart(old[::step], new[::step]).astype(np.float64)
    try:
        return [int(n) for n in np.histogram(apart[np.isfinite(apart)], bins=_BINS, range=(low, high))[0]]
    except ValueError:  # the two bounds are next to each other
        return []


def _values(tensor: Tensor) -> Any:
    """A flat array over the bytes, without a copy; None where there are none or their type is none to reckon with."""
    import numpy as np

    data = tensor.load()
    if data is None:
        return None
    try:
        flat = np.frombuffer(data, dtype="<u2" if tensor.dtype == "bf16" else tensor.dtype)
    except (TypeError, ValueError):
        return None
    if tensor.dtype == "bf16":
        return _Widened(flat)
    return flat if flat.dtype.kind in "fiub" else None


class _Widened:
    """bfloat16 as the upper halves of float32, widened piece by piece."""

    def __init__(self, halves: Any) -> None:
        self._halves, self.size = halves, halves.size

    def __getitem__(self, place: slice) -> Any:
        return (self._halves[place].astype("<u4") << 16).view("<f4")
