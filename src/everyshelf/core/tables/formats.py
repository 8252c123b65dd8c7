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


def is_arrow_stream(head: bytes) -> bool:
    """True for what begins as an encapsulated message of Arrow's streams does (Arrow columnar format 1.0, "IPC").

    A mark of continuation, the length of the schema's message, which is padded to eight bytes, and that message.
    """
    size = int.from_bytes(head[4:8], "little")
    return head.startswith(b"\xff\xff\xff\xff") and len(head) >= 8 and 0 < size < 1 << 24 and size % 8 == 0


def form_of(name: str, head: bytes) -> str | None:
    """The format of a table's file by its first bytes and its name; None if it is none."""
    if head.startswith(b"PAR1"):
        return "parquet"
    if head.startswith((b"ARROW1", b"FEA1")) or is_arrow_stream(head):
        return "arrow"
    return _SUFFIXES.get(PurePosixPath(bare_name(name)).suffix.lower())
