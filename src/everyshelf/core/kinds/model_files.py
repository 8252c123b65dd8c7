"""Models in whichever format their file has."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.onnx import Beside, parse_onnx
from everyshelf.core.formats.safetensors import parse_safetensors
from everyshelf.core.kinds.models import ModelRead, Tensors, onnx_outline, safetensors_outline
from everyshelf.core.kinds.pickled import read_pickled
from everyshelf.core.kinds.table import KindTable


@dataclass
class ModelParsed:
    """A model before its outline is made: tensors that can be told by their names, and how to make the outline.

    Making it asks each tensor for what tells its bytes from others; who compares two knows some of that already.
    """

    tensors: Tensors
    outline: Callable[[], ModelRead]


def parse_model(data: bytes, form: str, table: KindTable, beside: Beside | None = None) -> ModelParsed:
    """A model in one of the formats known; raises ``UnreadableError``."""
    if form == "onnx":
        model = parse_onnx(data, beside)
        return ModelParsed(model.graph.initializers, lambda: onnx_outline(model, table))
    if form == "safetensors":
        tensors, metadata = parse_safetensors(data)
        return ModelParsed(tensors, lambda: safetensors_outline(tensors, metadata, table))
    if form == "pickle":
        return ModelParsed({}, lambda: read_pickled(data, table))
    raise UnreadableError(f"no reader knows a model in {form or 'this format'}")


def read_model(data: bytes, form: str, table: KindTable) -> ModelRead:
    """The outline and tensors of a model; raises ``UnreadableError``."""
    return parse_model(data, form, table).outline()
