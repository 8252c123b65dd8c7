"""Models in PMML (https://dmg.org/pmml/): data dictionary, mining schema, model parts, coefficients."""

from __future__ import annotations

from everyshelf.core.kinds.table import KindTable

TABLE = KindTable(
    id="model",
    types={
        "DataField": "input",
        "MiningField": "mining field",
        "NumericPredictor": "coefficient",
        "OutputField": "output",
    },
    cosmetic_types=frozenset({"Header", "Timestamp", "Application"}),
    breaks=frozenset(
        {
            ("added", "input"),
            ("removed", "input"),
            ("removed", "output"),
            ("renamed", "input"),
            ("changed", "input", "dataType"),
        }
    ),
)
