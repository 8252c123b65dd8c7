"""Room on the disk: contents stop before it is full, and records keep a reserve.

A file of ``RESERVE_BYTES`` lies in the data folder. Contents are refused while less than ``LEAST_FREE_BYTES`` is free.
If something else fills the disk all the same, the reserve is let go, so that signing in, branches, tags and the
journal of promotions can be recorded still; it is made again once there is room.
"""

from __future__ import annotations

import errno
import os
import shutil
import sqlite3
import threading
from pathlib import Path

from django.db import DatabaseError

from everyshelf.core.errors import StorageError
from everyshelf.service.base.config import get_config

LEAST_FREE_BYTES = 24 * 1024 * 1024
RESERVE_BYTES = 16 * 1024 * 1024
_LET_GO_BELOW_BYTES = 4 * 1024 * 1024


def free_bytes() -> int:
    """Bytes the service can still write in the data folder."""
    return shutil.disk_usage(get_config().data).free


def room_for_contents(size: int) -> bool:
    """Whether contents of that many bytes can be taken. They lie twice on the disk while they come in."""
    return free_bytes() - 2 * size >= LEAST_FREE_BYTES


def require_room(size: int = 0) -> None:
    """Raise ``StorageError`` if no contents can be taken any more, or no file of ``size`` bytes be written."""
    if free_bytes() - size < LEAST_FREE_BYTES:
        raise no_room()


def no_room() -> StorageError:
    """That the disk is full."""
    return StorageError("the disk of the service is full", hint="Tell an administrator; nothing was recorded.")


def is_no_room(error: BaseException | None) -> bool:
    """Whether an error of the system or of the records comes from a full disk."""
    if isinstance(error, OSError):
        return error.errno in (errno.ENOSPC, errno.EDQUOT, errno.EFBIG)
    if isinstance(error, DatabaseError | sqlite3.Error):
        # SQLite says "disk I/O error" where it cannot let its write-ahead log or its index of it grow.
        return (
            any(words in str(error) for words in ("disk is full", "disk I/O error")) and free_bytes() < LEAST_FREE_BYTES
        )
    return False


def is_read_only(error: BaseException | None) -> bool:
    """Whether an error of the system or of the records comes from a disk that can be read only, as after it failed."""
    if isinstance(error, OSError):
        return error.errno == errno.EROFS
    if isinstance(error, DatabaseError | sqlite3.Error):
        return "readonly database" in str(error) or ("disk I/O error" in str(error) and not can_write())
    return False


def can_write() -> bool:
    """Whether the data folder can be written to; a full disk counts as one that can."""
    probe = get_config().data / f".probe-{os.getpid()}-{threading.get_ident()}"
    try:
        probe.touch(mode=0o600)
        probe.unlink(missing_ok=True)
    except OSError as error:
        return error.errno != errno.EROFS
    return True


def read_only() -> StorageError:
    """That nothing can be written."""
    return StorageError("the disk of the service can be read only", hint="Tell an administrator; nothing was recorded.")


def is_not_writable(error: BaseException | None) -> bool:
    """Whether nothing can be written: the disk is full, or can be read only."""
    return is_no_room(error) or is_read_only(error)


def _reserve() -> Path:
    return get_config().data / "reserve"


def keep_reserve() -> None:
    """Make the reserve where there is room, let it go where there is none. Called now and then."""
    path, free = _reserve(), free_bytes()
    held = path.stat().st_size if path.exists() else 0
    if held and free < _LET_GO_BELOW_BYTES:
        path.unlink(missing_ok=True)
    elif held < RESERVE_BYTES and free > LEAST_FREE_BYTES + 2 * RESERVE_BYTES:
        part = path.with_suffix(".part")
        try:
            with part.open("wb") as file:
                os.posix_fallocate(file.fileno(), 0, RESERVE_BYTES)
            os.replace(part, path)
        except OSError:
            part.unlink(missing_ok=True)  # another process was quicker; the next check tries again


def let_reserve_go() -> bool:
    """Give the reserve to the records at once; False if there is none."""
    try:
        _reserve().unlink()
    except FileNotFoundError:
        return False
    return True
