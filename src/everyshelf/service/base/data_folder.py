"""The data folder: one service at a time, readable by its owner only, in a form this version knows."""

from __future__ import annotations

import fcntl
import os
import time
from typing import IO

from everyshelf.core.durable import sync_folder, write_durably
from everyshelf.core.errors import BrokenError, ConflictError
from everyshelf.core.sharing import keep_private
from everyshelf.service.base.config import Config

FORMAT = 2
_ENDING_SECONDS = 60.0
_LOOK_SECONDS = 0.05


def open_data_folder(config: Config) -> IO[str]:
    """Make the folder ready; keep the result open as long as the service runs.

    Raises ``ConflictError`` (serve.busy) while another service works on it and ``BrokenError`` (serve.format) if its
    form is not the one this version writes: reading it as if it were would take its contents for damage.
    """
    keep_private()
    config.data.mkdir(parents=True, exist_ok=True)
    os.chmod(config.data, 0o700)  # whatever the umask: it holds everybody's artifacts and the key of sessions
    lock = _lock(config)
    _check_format(config)
    for folder in (config.segments, config.scratch):
        folder.mkdir(exist_ok=True)
    if not config.database.exists():
        # SQLite gives its log and the index of it the mode of the file.
        os.close(os.open(config.database, os.O_WRONLY | os.O_CREAT, 0o600))
    os.chmod(config.database, 0o600)
    return lock


def _lock(config: Config) -> IO[str]:
    """Lock the folder for this process and all that it forks.

    A service that was killed leaves processes that the system is still ending, and they have its lock until then. So
    the file says which process took the lock: if that one is gone, the others soon are too, and it is worth waiting.
    """
    lock = (config.data / "service.lock").open("a+")
    end = time.monotonic() + _ENDING_SECONDS
    while not _taken(lock):
        if _holder_runs(lock) or time.monotonic() > end:
            lock.close()
            raise ConflictError(
                f"another service works on {config.data}",
                code="serve.busy",
                hint="Stop it, or choose another folder with --data.",
            )
        time.sleep(_LOOK_SECONDS)
    lock.truncate(0)
    lock.write(f"{os.getpid()}\n")
    lock.flush()
    return lock


def _taken(lock: IO[str]) -> bool:
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    return True


def _holder_runs(lock: IO[str]) -> bool:
    """Whether the process that took the lock runs, as far as its number says; True if the file names none."""
    lock.seek(0)
    number = lock.read().strip()
    if not number.isdigit():
        return True
    if int(number) == os.getpid():  # in a container that starts again the same number comes back
        return False
    try:
        os.kill(int(number), 0)
    except ProcessLookupError:
        return False
    except (OSError, OverflowError):  # it runs as another person; or no system gives out such a number
        pass
    return True


def _check_format(config: Config) -> None:
    path = config.data / "format"
    if path.exists():
        found = path.read_text(errors="replace").strip()
        if found != str(FORMAT):
            raise _unknown(config, f"format {found[:20]!r}")
    elif config.database.exists() or any(config.segments.glob("*.seg")):
        raise _unknown(config, "an older format")
    else:
        write_durably(path, f"{FORMAT}\n".encode())
        sync_folder(config.data)


def _unknown(config: Config, what: str) -> BrokenError:
    return BrokenError(
        f"{config.data} was written in {what}; this version reads and writes format {FORMAT}",
        code="serve.format",
        hint="Serve it with the version that wrote it, or choose another folder with --data. Nothing was changed.",
    )
