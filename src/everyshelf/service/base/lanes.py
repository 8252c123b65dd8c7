"""Lanes: how many of one sort of heavy work go on at the same time, in all processes, and how many of one person.

Each place in a lane is a lock on a file, which ends with the process that has it, however that ends.
"""

from __future__ import annotations

import fcntl
import hashlib
import os
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

from everyshelf.core.errors import BusyError
from everyshelf.service.base.config import get_config
from everyshelf.service.base.turns import turns

_LOOK_SECONDS = 0.05


def _go_on() -> None:
    """Nothing ends the wait early."""


@contextmanager
def lane(
    name: str, person: str, *, most: int, each: int, seconds: float = 60.0, tick: Callable[[], None] = _go_on
) -> Iterator[None]:
    """A place in the lane ``name``: of ``most`` in all, ``each`` for one person. Waits for up to ``seconds``; raises
    ``BusyError`` then. ``tick`` may raise to end the wait."""
    own = hashlib.sha256(person.encode()).hexdigest()[:16]
    end = time.monotonic() + seconds
    with ExitStack() as stack:
        for group, places in ((f"{name}-{own}", each), (name, most)):
            with turns.given_back():
                while not any(_taken(group, place, stack) for place in range(places)):
                    if time.monotonic() > end:
                        raise BusyError(
                            f"too much of this is going on at the same time ({name})",
                            hint="Try again in a moment.",
                        )
                    tick()
                    time.sleep(_LOOK_SECONDS)
        yield


def _taken(group: str, place: int, stack: ExitStack) -> bool:
    folder = Path(get_config().data, "lanes")
    folder.mkdir(exist_ok=True, mode=0o700)
    lock = os.open(folder / f"{group}-{place}", os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        os.close(lock)
        return False
    stack.callback(os.close, lock)
    return True
