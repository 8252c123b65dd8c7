"""Counts of passengers in many files, one folder a season: a dataset that is a folder, in two versions."""

from __future__ import annotations

import io
import random
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq

FOLDER = "feeds/passages"
SEASONS = ("2024", "2025")
_ROWS = 600
_HARBOURS = ("Aldwick", "Brae", "Corran", "Dunmore", "Eskholm")


def passages(*, later: bool = False) -> dict[str, bytes]:
    """Files by path. ``later``: cut into other files and sorted by harbour, with twelve counts set right."""
    files: dict[str, bytes] = {}
    for season in SEASONS:
        rows = _rows(season)
        if later:
            rows = [{**row, "boarded": row["boarded"] + 3 * (n % 100 == 0)} for n, row in enumerate(rows)]
            rows.sort(key=lambda row: (str(row["harbour"]), row["passage"]))
        cuts = 3 if later else 2
        for n in range(cuts):
            files[f"{FOLDER}/season={season}/part-{n:02}.parquet"] = _written(
                rows[n * _ROWS // cuts : (n + 1) * _ROWS // cuts]
            )
    return files


def _rows(season: str) -> list[dict[str, Any]]:
    rng = random.Random(season)
    return [
        {
            "passage": int(season) * 1000 + n,
            "harbour": rng.choice(_HARBOURS),
            "boarded": rng.randint(4, 180),
            "wave_m": round(rng.uniform(0.1, 3.2), 2),
        }
        for n in range(_ROWS)
    ]


def _written(rows: list[dict[str, Any]]) -> bytes:
    out = io.BytesIO()
    pq.write_table(pa.Table.from_pylist(rows), out, compression="zstd")
    return out.getvalue()
