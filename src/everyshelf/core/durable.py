"""Files that are on the disk when a call returns, and not only in the memory of the operating system (fsync(2))."""

from __future__ import annotations

import os
from pathlib import Path
from typing import IO


def to_disk(file: IO[bytes]) -> None:
    """Return once what was written to an open file is on the disk."""
    file.flush()
    os.fsync(file.fileno())


def sync_folder(path: Path) -> None:
    """Return once the names in a folder are on the disk."""
    descriptor = os.open(path, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def write_durably(path: Path, data: bytes) -> None:
    """Write a file that only its owner may read."""
    with open(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_CLOEXEC, 0o600), "wb") as file:
        file.write(data)
        to_disk(file)


def replace_durably(path: Path, data: bytes, part: Path) -> None:
    """Write a file in one step, by ``part`` beside it: whoever reads sees what was there before, or all of ``data``."""
    try:
        with part.open("wb") as file:
            file.write(data)
            to_disk(file)
        os.replace(part, path)
        sync_folder(path.parent)
    finally:
        part.unlink(missing_ok=True)
