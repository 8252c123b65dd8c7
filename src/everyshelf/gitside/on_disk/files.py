"""Files of a folder that others write, reached step by step from its descriptor: no link leads anywhere else.

Whoever writes the folder may put a link, a pipe or a folder where a file was a moment ago. So every step is opened
relative to the one before, without following links (``openat`` with ``O_NOFOLLOW``, POSIX.1-2008), and what was opened
is looked at before it is read.
"""

from __future__ import annotations

import contextlib
import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from everyshelf.core.sharing import shared_mode

_FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
_FILE = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
_DEEPEST = 64


@dataclass(frozen=True)
class Names:
    """What is in one folder."""

    folders: tuple[str, ...]
    files: tuple[str, ...]


@contextmanager
def folder_at(root: Path, inside: str = "", *, make: bool = False) -> Iterator[int]:
    """The descriptor of a folder below ``root``; raises ``OSError`` if a step is not a folder of its own. ``make``:
    folders that are not there are made."""
    current = os.open(root, _FOLDER)
    try:
        for step in [part for part in inside.split("/") if part]:
            if make:
                with contextlib.suppress(FileExistsError):
                    os.mkdir(step, 0o777, dir_fd=current)
                    os.chmod(step, shared_mode(0o777), dir_fd=current)
            below = os.open(step, _FOLDER, dir_fd=current)
            os.close(current)
            current = below
        yield current
    finally:
        os.close(current)


def names_in(root: Path, inside: str = "") -> Names:
    """The folders and files in a folder, in order; nothing for one that is not there. Links and pipes are left out."""
    folders: list[str] = []
    files: list[str] = []
    try:
        with folder_at(root, inside) as folder, os.scandir(folder) as entries:
            for entry in entries:
                if entry.is_dir(follow_symlinks=False):
                    folders.append(entry.name)
                elif entry.is_file(follow_symlinks=False):
                    files.append(entry.name)
    except FileNotFoundError:
        pass
    return Names(tuple(sorted(folders)), tuple(sorted(files)))


def files_below(root: Path, inside: str, *, deepest: int = _DEEPEST) -> Iterator[str]:
    """The paths, from ``root``, of all files below a folder."""
    names = names_in(root, inside)
    yield from (f"{inside}/{name}" for name in names.files)
    if deepest:
        for name in names.folders:
            yield from files_below(root, f"{inside}/{name}", deepest=deepest - 1)


@contextmanager
def opened_file(root: Path, path: str) -> Iterator[tuple[int, int]]:
    """The descriptor and size of an ordinary file; raises ``OSError`` for anything else."""
    inside, _, name = path.rpartition("/")
    with folder_at(root, inside) as folder:
        file = os.open(name, _FILE, dir_fd=folder)
    try:
        info = os.fstat(file)
        if not stat.S_ISREG(info.st_mode):
            raise FileNotFoundError(f"{path} is not a file")
        yield file, info.st_size
    finally:
        os.close(file)


def read_file(root: Path, path: str, most: int) -> bytes | None:
    """Up to ``most`` bytes of a file; None if it does not exist."""
    try:
        with opened_file(root, path) as (file, _):
            data = b""
            while len(data) < most and (piece := os.read(file, most - len(data))):
                data += piece
            return data
    except (FileNotFoundError, NotADirectoryError):
        return None


def write_new(folder: int, name: str, data: bytes, mode: int = 0o666) -> None:
    """Write a file that is not there yet, and make it last; raises ``FileExistsError``."""
    file = os.open(name, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, mode, dir_fd=folder)
    with os.fdopen(file, "wb") as target:
        os.fchmod(target.fileno(), shared_mode(mode))
        target.write(data)
        target.flush()
        os.fsync(target.fileno())
