"""Which files are for others: what the service keeps is for its user alone, what it puts somewhere for people is not.

The service takes all rights from others for what it writes (``keep_private``). Folders of environments, databases and
repositories of others get the rights that its surroundings had asked for.
"""

from __future__ import annotations

import os
from pathlib import Path

_asked_for: list[int] = []  # the umask that this process was started with, once it has another


def keep_private() -> None:
    """From now on what this process and its children write is for its user alone (umask(2))."""
    _asked_for[:] = [os.umask(0o077)]


def shared_mode(mode: int) -> int:
    """The rights of a file or folder that others are to read: ``mode`` without what the surroundings take away."""
    return mode & ~_asked_for[0] if _asked_for else mode & ~_current()


def _current() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask


def make_shared(folder: Path) -> None:
    """Make a folder, and those above it that are missing, for others as well."""
    missing = []
    while not folder.exists():
        missing.append(folder)
        folder = folder.parent
    for one in reversed(missing):
        one.mkdir(exist_ok=True)
        os.chmod(one, shared_mode(0o777))
