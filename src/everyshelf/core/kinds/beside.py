"""Files that belong to a model without being part of it: what it keeps elsewhere, and what was measured of it."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import PurePosixPath

METRIC_NAMES = tuple(
    f"{name}{suffix}" for name in ("metrics", "params", "parameters", "scores") for suffix in (".json", ".yaml", ".yml")
)
_MODEL_NAMES = (".onnx", ".safetensors", ".pkl", ".pickle", ".joblib", ".pt", ".pth", ".pmml", ".sav")
_KEPT_ELSEWHERE = (".data", ".bin", ".weight", ".weights", ".onnx_data", ".pb", ".raw")
MOST_FILES = 40


def may_hold_weights(name: str) -> bool:
    """True for what is called as files are in which a model keeps its weights."""
    return name.lower().endswith(_KEPT_ELSEWHERE)


def may_have_beside(name: str) -> bool:
    """True for what is called as models are."""
    return PurePosixPath(name.lower()).suffix in _MODEL_NAMES


def keeps_elsewhere(name: str, siblings: Iterable[str]) -> list[str]:
    """Those of the files in a model's folder that may hold part of the model itself."""
    return [sibling for sibling in belonging(name, siblings) if sibling not in METRIC_NAMES]


def belonging(name: str, siblings: Iterable[str]) -> list[str]:
    """Those of the files in a model's folder that belong to it; none for what is no model."""
    if not may_have_beside(name):
        return []
    stem = PurePosixPath(name).stem
    ours = (name, f"{stem}.")
    found = [
        sibling
        for sibling in siblings
        if sibling in METRIC_NAMES or sibling.startswith(ours) or sibling.lower().endswith(_KEPT_ELSEWHERE)
    ]
    return [sibling for sibling in found if sibling != name][:MOST_FILES]
