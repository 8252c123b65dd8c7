"""The formats tables are read from, and how their files begin or are named."""

from __future__ import annotations

from pathlib import PurePosixPath

from everyshelf.core.formats.compressed import bare_name

FORMATS = ("csv", "json", "jsonl", "parquet", "arrow", "feather")
_SUFFIXES = {
    ".parquet": "parquet",
    ".pq": "parquet",
    ".arrow": "arrow",
    ".feather": "arrow",
    ".jsonl": "jsonl",
    ".ndjson": "jsonl",
    ".json": "json",
    ".csv": "csv",
    ".tsv": "csv",
    ".tab": "csv",
    ".psv": "csv",
}


def form_of(name: str, head: bytes) -> str | None:
    """The format of a table's file by its first bytes and its name; None if it is none."""
    if head.startswith(b"PAR1"):
        return "parquet"
    if head.startswith((b"ARROW1", b"FEA1")):
        return "arrow"
    return _SUFFIXES.get(PurePosixPath(bare_name(name)).suffix.lower())
