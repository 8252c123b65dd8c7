"""Files beside the data of a table that lies in many files."""

from __future__ import annotations

from pathlib import PurePosixPath


def is_marker(name: str, size: int) -> bool:
    """True for what lies beside the data in a folder: marks, check sums, empty files."""
    return PurePosixPath(name).name.startswith(("_", ".")) or not size
