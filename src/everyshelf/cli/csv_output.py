"""Tables that a command prints for other programs."""

from __future__ import annotations

import csv
import io
import os
from collections.abc import Iterable, Sequence
from typing import Any


def csv_text(heads: Sequence[str], rows: Iterable[Sequence[Any]]) -> str:
    """Return heads and rows as CSV, with formulas made texts unless ``EVERYSHELF_RAW_CSV`` leaves them as they are."""
    from everyshelf.core.report.csv_cells import csv_cell

    raw = os.environ.get("EVERYSHELF_RAW_CSV", "").lower() in ("1", "yes", "true", "on")
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    for row in (heads, *rows):
        writer.writerow([csv_cell(cell, raw=raw) for cell in row])
    return text.getvalue()
