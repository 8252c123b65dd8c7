"""Lanes: how many of one sort of heavy work go on at the same time, in all processes, and how many of one person.

Each place in a lane is a lock on a file, which ends with the process that has it, however that ends. Who waits for a
place keeps a thread of a web process, so only a few wait at a time; the others are asked to come back.
"""

from __future__ import annotations

import fcntl
import hashlib
import os
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

from everyshelf.core.errors import BusyError
from everyshelf.service.base.config import get_config
from everyshelf.service.base.turns import turns

MOST_WAITING = 16  # of the 24 threads of a web process
MOST_WAITING_EACH = 10
_LOOK_SECONDS = 0.05

_waiting: Counter[str] = Counter()  # by person, in this process
_lock = threading.Lock()


def _go_on() -> None:
    """Nothing ends the wait early."""


@contextmanager
def lane(
    name: str, person: str, *, most: int, each: int, seconds: float = 60.0, tick: Callable[[], None] = _go_on
) -> Iterator[None]:
    """A place in the lane ``name``: of ``most`` in all, ``each`` for one person. Waits for up to ``seconds``; raises
    ``BusyError`` then, and at once if too many wait already. ``tick`` may raise to end the wait."""
    own = hashlib.sha256(person.encode()).hexdigest()[:16]
    end = time.monotonic() + seconds
    with ExitStack() as stack:
        for group, places in ((f"{name}-{own}", each), (name, most)):
            if any(_taken(group, place, stack) for place in range(places)):
                continue
            with _one_who_waits(name, person), turns.given_back():
                while not any(_taken(group, place, stack) for place in range(places)):
                    if time.monotonic() > end:
                        raise _busy(name)
                    tick()
                    time.sleep(_LOOK_SECONDS)
        yield


@contextmanager
def _one_who_waits(name: str, person: str) -> Iterator[None]:
    with _lock:
        if _waiting[person] >= MOST_WAITING_EACH or _waiting.total() >= MOST_WAITING:
            raise _busy(name)
        _waiting[person] += 1
    try:
        yield
    finally:
        with _lock:
            _waiting[person] -= 1
            if not _waiting[person]:
                del _waiting[person]


def _busy(name: str) -> BusyError:
    return BusyError(f"too much of this is going on at the same time ({name})", hint="Try again in a moment.")


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
