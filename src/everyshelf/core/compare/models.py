"""Model against model: the outline, and per tensor how far the weights moved."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

from everyshelf.core.answers.models import (
    MetricChange,
    ModelAnswer,
    TensorChange,
    TensorCounts,
    TensorDistance,
    TensorForm,
    WeightCounts,
)
from everyshelf.core.compare.metrics import metric_changes
from everyshelf.core.compare.node_names import names_of_old, renamed_as, shared_names
from everyshelf.core.compare.outlines import compare_outlines
from everyshelf.core.compare.result import Comparison
from everyshelf.core.formats.onnx import Beside
from everyshelf.core.formats.tensors import Distance, Tensor, distance
from everyshelf.core.kinds.model_files import parse_model
from everyshelf.core.kinds.models import ModelRead, Tensors, onnx_outline, told_shape
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.outline.model import Finding, Outline

_MOST_TENSORS = 5_000
_WORTH_COMPARING = 1024
_PIECE = 1 << 18  # bytes that stay in a cache while they are compared
_FEW_SHARED_NAMES = 0.5


@dataclass(frozen=True)
class ModelFile:
    """A model's bytes, and a way to the files beside it: by name, their bytes or None."""

    data: bytes
    format: str
    beside: Callable[[str], bytes | None] | None = None

    def tensor_bytes(self) -> Beside | None:
        """Bytes of tensors that lie in other files."""
        beside = self.beside
        if beside is None:
            return None

        def find(location: str, offset: int, length: int | None) -> Any:
            held = beside(location)
            if held is None or offset < 0 or offset > len(held) or (length is not None and offset + length > len(held)):
                return None
            return memoryview(held)[offset : offset + length if length is not None else None]

        return find


def compare_models(before: ModelFile, after: ModelFile, table: KindTable) -> Comparison:
    """What changed in structure, parameters and weights; raises ``UnreadableError``."""
    parsed = [parse_model(f.data, f.format, table, f.tensor_bytes()) for f in (before, after)]
    _mark_equal(parsed[0].tensors, parsed[1].tensors)
    old, new = (p.outline() for p in parsed)
    regenerated = 0
    if old.graph is not None and new.graph is not None and shared_names(old.graph, new.graph) < _FEW_SHARED_NAMES:
        new, regenerated = _named_as(old, new, table)
    findings, identity = compare_outlines(
        Outline("model", old.format, old.root), Outline("model", new.format, new.root), table
    )
    distances = _Distances(old, new)
    findings = [told for f in findings if (told := distances.told(f)) is not None]
    if regenerated:
        detail = f"names regenerated for {regenerated} parts of equal structure"
        findings.append(Finding("changed", "/", "model", "names", "cosmetic", "name", detail=detail))
    notes = "; ".join([*dict.fromkeys([*old.notes, *new.notes]), *_missing(old, new)])
    model = distances.answer(metric_changes(before.beside, after.beside))
    return Comparison("model", findings, identity=identity, note=notes, model=model)


def _missing(*models: ModelRead) -> list[str]:
    """Said of weights that lie in files nobody handed over."""
    names = sorted({t.where for m in models for t in m.tensors.values() if t.where and t.digest is None})
    return (
        [f"{', '.join(names[:3])} cannot be found beside it, so of those weights only the shapes are known"]
        if names
        else []
    )


def _named_as(old: ModelRead, new: ModelRead, table: KindTable) -> tuple[ModelRead, int]:
    assert old.graph is not None and new.graph is not None
    mapping = names_of_old(old.graph.graph, new.graph.graph)
    if not mapping:
        return new, 0
    graph = renamed_as(new.graph.graph, lambda name: mapping.get(name, name))
    return onnx_outline(replace(new.graph, graph=graph), table), len(mapping)


def _mark_equal(old: Tensors, new: Tensors) -> None:
    """Comparing bytes is ten times faster than hashing them: equal bytes under one name get no digest of their own."""
    for name in old.keys() & new.keys():
        one, other = old[name], new[name]
        if (one.shape, one.dtype) == (other.shape, other.dtype) and one.size > _WORTH_COMPARING:
            before, after = one.load(), other.load()
            if before is not None and after is not None and _same_bytes(before, after):
                one.digest = other.digest = f"as in the other, {name}"


def _same_bytes(before: Any, after: Any) -> bool:
    """As ``==``, which for views goes value by value, an order of magnitude slower."""
    one, other = memoryview(before), memoryview(after)
    pieces = range(0, one.nbytes, _PIECE)
    return one.nbytes == other.nbytes and all(
        one[at : at + _PIECE].tobytes() == other[at : at + _PIECE].tobytes() for at in pieces
    )


class _Distances:
    """Tensors that differ, and by how much; each pair is measured once."""

    def __init__(self, old: ModelRead, new: ModelRead) -> None:
        self._old, self._new = old, new
        self._by_digest = tuple({t.digest: t for t in m.tensors.values() if t.digest} for m in (old, new))
        self._found: dict[tuple[str, str], Distance | None] = {}

    def between(self, before: Tensor, after: Tensor) -> Distance | None:
        if before.digest is None or after.digest is None:
            return None
        key = before.digest, after.digest
        if key not in self._found:
            self._found[key] = distance(before, after)
        return self._found[key]

    def told(self, finding: Finding) -> Finding | None:
        """Weights told by how far they moved, not by what their bytes hash to."""
        if finding.type not in ("tensor", "constant"):
            return finding
        if finding.field == "weights":
            one, other = (side.get(v) for side, v in zip(self._by_digest, (finding.before, finding.after), strict=True))
            moved = self.between(one, other) if one is not None and other is not None else None
            return replace(finding, before=None, after=None, detail=told_distance(moved))
        if finding.field == "values":
            return None  # follows from the shape
        if finding.field == "shape":
            return replace(finding, detail="")
        sides = (_without_digest(finding.before), _without_digest(finding.after))
        return replace(finding, before=sides[0], after=sides[1])

    def answer(self, metrics: list[MetricChange]) -> ModelAnswer:
        old, new = self._old.tensors, self._new.tensors
        rows = [self._row(name, old.get(name), new.get(name)) for name in dict.fromkeys([*old, *new])]
        states = Counter(row.state for row in rows)
        return ModelAnswer(
            tensors=rows[:_MOST_TENSORS],
            truncated=len(rows) > _MOST_TENSORS,
            counts=TensorCounts(
                equal=states["equal"], changed=states["changed"], added=states["added"], removed=states["removed"]
            ),
            values=WeightCounts(before=sum(t.size for t in old.values()), after=sum(t.size for t in new.values())),
            metrics=metrics,
        )

    def _row(self, name: str, before: Tensor | None, after: Tensor | None) -> TensorChange:
        change = TensorChange(name=name, state="changed", before=_form(before), after=_form(after))
        if before is None or after is None:
            change.state = "added" if before is None else "removed"
        elif (before.shape, before.dtype, before.digest) == (after.shape, after.dtype, after.digest):
            change.state = "equal"
        else:
            moved = self.between(before, after)
            change.distance = _distance_answer(moved) if moved is not None else None
        return change


def _form(tensor: Tensor | None) -> TensorForm | None:
    if tensor is None:
        return None
    return TensorForm(shape=told_shape(tensor.shape), type=tensor.told_type, values=tensor.size)


def _distance_answer(moved: Distance) -> TensorDistance:
    return TensorDistance(
        relative=moved.relative, largest=moved.largest, share=moved.share, within=moved.within, bins=moved.bins
    )


def _without_digest(held: Any) -> Any:
    if not isinstance(held, dict):
        return held
    return {k: v for k, v in held.items() if k not in ("weights", "values")} or None


def told_distance(moved: Distance | None) -> str:
    """How far in words."""
    if moved is None:
        return "other bytes"
    far = f"moved by {_percent(moved.relative)} of their size" if moved.relative is not None else "were all zero"
    return f"{far}, the largest by {moved.largest:.3g}, {_percent(moved.share)} of them"


def _percent(share: float) -> str:
    """A share that is never told as nothing at all."""
    if share in (0, 1) or share >= 0.1:
        return f"{share:.0%}"
    return f"{share * 100:.2g}%" if share >= 0.0001 else "under 0.01%"
