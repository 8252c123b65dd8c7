"""Models: their tensors, how far the weights moved, and the metrics kept beside them."""

from __future__ import annotations

from typing import Any, Literal

from everyshelf.core.answers.base import Answer

TensorState = Literal["equal", "changed", "added", "removed"]


class TensorForm(Answer):
    """A tensor's shape as it is written, the type and the number of its values."""

    shape: str
    type: str
    values: int


class NamedTensor(TensorForm):
    """A tensor of one version."""

    name: str


class TensorDistance(Answer):
    """How far weights moved: against their own size (null where they were all zero), the largest move of one value,
    the share of values that moved, and the distribution of the moves within two bounds."""

    relative: float | None
    largest: float | None
    share: float
    within: tuple[float | None, float | None]
    bins: list[int]


class TensorChange(Answer):
    """A tensor of two versions; ``distance`` where both can be compared value by value."""

    name: str
    state: TensorState
    before: TensorForm | None = None
    after: TensorForm | None = None
    distance: TensorDistance | None = None


class MetricChange(Answer):
    """A value in a file beside a model; ``better``: null where the name does not say which direction is good."""

    file: str
    name: str
    before: Any
    after: Any
    better: bool | None


class TensorCounts(Answer):
    """How many tensors are equal, changed, came and went."""

    equal: int
    changed: int
    added: int
    removed: int


class WeightCounts(Answer):
    """How many weights each side has."""

    before: int
    after: int


class ModelAnswer(Answer):
    """Two versions of a model."""

    tensors: list[TensorChange]
    truncated: bool
    counts: TensorCounts
    values: WeightCounts
    metrics: list[MetricChange]


class ModelPreview(Answer):
    """The tensors of one model, and how many weights it has."""

    tensors: list[NamedTensor]
    values: int
    truncated: bool
