"""Rows of tables that differ, kept as files for paging, and no more of them than there is room for.

A file is named by the key of its comparison. Where the oldest make room, what is remembered of their comparisons goes
too, so that both are worked out again when somebody asks.
"""

from __future__ import annotations

import contextlib
import os
from pathlib import Path

from everyshelf.service.base.acts import aside
from everyshelf.service.base.config import get_config
from everyshelf.service.shelves.models import CachedComparison


def file_of(key: str) -> Path:
    """Where the rows of a comparison are kept, or will be; those of one of several tables have more in their names."""
    folder = get_config().data / "cache" / "rows"
    folder.mkdir(parents=True, exist_ok=True)
    return folder / f"{key}.parquet"


def files_at(file: Path) -> list[Path]:
    """The file of a table's rows, or the files of several tables."""
    return [*file.parent.glob(f"{file.name}*")]


def mark_used(file: Path) -> None:
    """Note that somebody looks at these rows: what nobody looks at goes first."""
    for held in files_at(file):
        with contextlib.suppress(OSError):
            os.utime(held)


def take_in(part: Path, file: Path) -> None:
    """Put what was written under the name ``part`` in its place, and make room."""
    for written in files_at(part):
        written.replace(written.with_name(written.name.replace(part.name, file.name, 1)))
    make_room(file)


def make_room(newest: Path) -> None:
    """Remove what was looked at longest ago until the rest fits; never ``newest``."""
    held = []
    for path in newest.parent.glob("*.parquet*"):
        with contextlib.suppress(OSError):  # another process may have made room first
            told = path.stat()
            held.append((told.st_mtime, told.st_size, path))
    left = sum(size for _, size, _ in held) - get_config().max_rows_bytes
    for _, size, path in sorted(held):
        if left <= 0:
            return
        if path.name.startswith(newest.name):
            continue  # somebody is about to look at it
        path.unlink(missing_ok=True)
        with aside():
            CachedComparison.objects.filter(key=path.name.partition(".")[0]).delete()
        left -= size
