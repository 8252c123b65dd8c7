"""SQLite files whose newest changes are not in the file: they lie beside it until the program writes them there.

Sources: https://www.sqlite.org/walformat.html (the header of ``-shm``: frames there are, and frames written back) and
https://www.sqlite.org/fileformat2.html#the_rollback_journal.
"""

from __future__ import annotations

import struct
from collections.abc import Set
from pathlib import Path

_MAGIC = b"SQLite format 3\0"
_JOURNAL_MAGIC = bytes.fromhex("d9d505f920a163d7")
BESIDE = ("-wal", "-shm", "-journal")
_FRAMES_AT, _WRITTEN_AT = 16, 96


def lies_beside(name: str, names: Set[str], folder: Path) -> bool:
    """Whether a file is one that SQLite keeps beside another of the same folder, and no artifact."""
    if not name.endswith(BESIDE):
        return False
    base = name.rpartition("-")[0]
    return base in names and _begins(folder / base).startswith(_MAGIC)


def unwritten(name: str, names: Set[str], folder: Path) -> str:
    """Why what is in a file is not all of it, empty if it is; ``names``: what else is in its folder."""
    journal, log = f"{name}-journal", f"{name}-wal"
    if journal not in names and log not in names:
        return ""
    if not _begins(folder / name).startswith(_MAGIC):
        return ""
    if journal in names and _begins(folder / journal).startswith(_JOURNAL_MAGIC):
        return f"its program is in the middle of changing it, as {journal} says; wait, or open and close it there"
    if log in names and _has_unwritten(folder / log):
        return f"its newest changes lie in {log}; close the program that has it open, then look again"
    return ""


def unwritten_in(file: Path) -> str:
    """The same of a file by itself."""
    beside = (f"{file.name}{end}" for end in BESIDE)
    return unwritten(file.name, {name for name in beside if (file.parent / name).exists()}, file.parent)


def _has_unwritten(log: Path) -> bool:
    try:
        if log.stat().st_size == 0:
            return False
        with log.with_name(log.name.removesuffix("-wal") + "-shm").open("rb") as file:
            header = file.read(_WRITTEN_AT + 4)
        (frames,) = struct.unpack_from("=I", header, _FRAMES_AT)
        (written,) = struct.unpack_from("=I", header, _WRITTEN_AT)
    except (OSError, struct.error):
        return True  # nobody tells how much of it was written back
    return bool(frames != written)


def _begins(file: Path) -> bytes:
    try:
        with file.open("rb") as opened:
            return opened.read(16)
    except OSError:
        return b""
