"""Artifacts as lines, for ``git log -p``: what Git calls a textconv program (``gitattributes(5)``)."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from everyshelf.core.answers.outlines import OutlineAnswer, PartAnswer
from everyshelf.core.answers.tables import TablePreview

# Their own lines say what changed; an outline would say less.
_IN_LINES = {"script", "settings", "report", "dataset", "tests"}
_OFTEN_ONE_LINE = {"json", "xml"}


def lines_of(file: Path, outline: OutlineAnswer) -> Iterator[str]:
    """The lines of a file: texts of simple kinds as they are, else a head, which changes with every byte, and the
    parts."""
    data = file.read_bytes()
    if outline.read_as == "text" or (outline.kind in _IN_LINES and outline.format not in _OFTEN_ONE_LINE):
        try:
            yield from data.decode().splitlines()
        except UnicodeDecodeError:
            pass
        else:
            return
    read = "" if outline.read_as == outline.kind else f", read as {outline.read_as}"
    yield f"{outline.kind}{read}, {outline.size:,} bytes, SHA-256 {hashlib.sha256(data).hexdigest()[:16]}"
    if outline.note:
        yield outline.note
    yield from _fields(outline.fields or {}, "")
    if outline.table is not None:
        yield from _table(outline.table)
    for name, table in (outline.tables or {}).items():
        yield f"table {name}"
        yield from (f"    {line}" for line in _table(table))
    if outline.model is not None:
        yield from (f"tensor {t.name}: {t.type} {t.shape}" for t in outline.model.tensors)
    yield from _parts(outline.parts, "")
    if outline.truncated:
        yield "more parts are not shown"


def _parts(parts: list[PartAnswer], indent: str) -> Iterator[str]:
    for part in parts:
        yield f"{indent}{part.type} {' '.join(part.label.split())}"
        yield from _fields({k: v for k, v in part.fields.items() if v != part.label}, f"{indent}    ")
        yield from _parts(part.parts, f"{indent}    ")


def _fields(fields: dict[str, Any], indent: str) -> Iterator[str]:
    for name, value in fields.items():
        text = value if isinstance(value, str) else json.dumps(value, ensure_ascii=False, default=str)
        first, *more = text.split("\n")
        if not more:
            yield f"{indent}{name}: {first}"
            continue
        yield f"{indent}{name}:"
        yield from (f"{indent}    {line.rstrip()}" for line in (first, *more))


def _table(table: TablePreview) -> Iterator[str]:
    yield from (f"column {column.name}: {column.type}".rstrip(": ") for column in table.columns)
    for row in table.rows:
        yield "row " + " | ".join("" if cell is None else str(cell).replace("\n", "⏎") for cell in row)
    if table.row_count > len(table.rows):
        yield f"{table.row_count - len(table.rows):,} more rows"
