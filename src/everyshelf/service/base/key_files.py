"""Files that hold one key: made whole or not at all, readable by their owner only."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Callable
from pathlib import Path

from everyshelf.core.durable import sync_folder, to_disk
from everyshelf.core.errors import BrokenError, StorageError


def read_or_make(path: Path, make: Callable[[], bytes], code: str) -> bytes:
    """The key in ``path``; made by ``make`` where there is no such file.

    It is written beside its place, made durable, and linked there: a full disk or a crash leaves no half of it, and of
    two processes that make it at once both get the one that came first. Raises ``StorageError`` where that cannot be
    done and ``BrokenError`` for an empty file: making another key would leave what the first one sealed unreadable.
    """
    try:
        if not path.exists():
            _make(path, make())
        key = path.read_bytes().strip()
    except OSError as error:
        raise StorageError(
            f"the key file {path} cannot be read or made: {error.strerror}",
            code=code,
            hint="Look for free space there and for the rights of the service, then start again.",
        ) from error
    if not key:
        raise damaged_key(path, code)
    return key


def damaged_key(path: Path, code: str) -> BrokenError:
    """That the file is there and holds no key."""
    return BrokenError(
        f"the key file {path} is empty or damaged",
        code=code,
        hint="Copy it back from a backup. If there is none, delete the file: a new key is made, and what the old one"
        " sealed or signed (secrets of environments, sessions) has to be set again.",
    )


def _make(path: Path, key: bytes) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    descriptor, temporary = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)  # mode 0600, whatever the umask
    try:
        with os.fdopen(descriptor, "wb") as file:
            file.write(key)
            to_disk(file)
        try:
            os.link(temporary, path)
        except FileExistsError:
            return
        sync_folder(path.parent)
    finally:
        os.unlink(temporary)
