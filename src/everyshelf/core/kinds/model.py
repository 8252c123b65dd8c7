"""Models: PMML (https://dmg.org/pmml/), ONNX, safetensors, and pickles read without running them."""

from __future__ import annotations

from typing import Any

from everyshelf.core.kinds.cosmetic import Cosmetic, prose
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.outline.model import Effect, Part


def _judge(action: str, part: Part, field: str | None, before: Any, after: Any) -> Effect | None:
    if part.type != "import":
        return None
    if part.fields.get("unusual"):
        return "breaks" if action == "added" else "alters"  # whoever loads it runs something that is no part of a model
    return "cosmetic" if str(part.key).startswith(_MEANS) else None


# What takes arrays and texts apart and puts them together again; which of it is used depends on the protocol.
_MEANS = ("numpy.", "copyreg.", "copy_reg.", "_codecs.", "builtins.", "__builtin__.", "collections.", "joblib.")


TABLE = KindTable(
    id="model",
    types={
        "DataField": "input",
        "MiningField": "mining field",
        "NumericPredictor": "coefficient",
        "OutputField": "output",
    },
    cosmetic_types=(
        Cosmetic(
            frozenset({"Header", "Timestamp", "Application", "producer"}), "who wrote it, with what, when", made=True
        ),
    ),
    cosmetic_fields=(
        prose("description"),
        Cosmetic(frozenset({"protocol", "compression"}), "the form of the file, not what it says", made=True),
    ),
    unordered=frozenset({"tensor", "import", "metadata", "operator set", "attribute", "constant"}),
    breaks=frozenset(
        {
            ("added", "input"),
            ("removed", "input"),
            ("removed", "output"),
            ("added", "output"),
            ("renamed", "input"),
            ("renamed", "output"),
            ("changed", "input", "dataType"),
            ("changed", "input", "type"),
            ("changed", "input", "shape"),
            ("changed", "output", "type"),
            ("changed", "output", "shape"),
        }
    ),
    follows={"weights": "shape"},
    renamed_if_equal=frozenset({"tensor", "import"}),
    judge=_judge,
)
