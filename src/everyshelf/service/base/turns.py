"""Turns: only so many requests work at the same time in one process.

Threads of one interpreter share one lock. Each call of the database gives it up and has to wait for it again behind all
others that work, so that many requests at once take turns at every step, and all of them end late. Three at a time
answer as many in a second, and the slowest of them in half the time.

A turn is not a guarantee: a request that has waited a while for one goes ahead without it, so that long requests do not
delay the others. A request that waits for another process, or writes while others wait for it, passes its turn on.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager

AT_ONCE = 2
PATIENCE_SECONDS = 0.2


def _nothing() -> None:
    """Where nothing hands out turns: in a job worker."""


class Turns:
    """How many threads of this process work. ``lock`` guards it; ``on_free`` is called with it when one stops."""

    def __init__(self, at_once: int = AT_ONCE) -> None:
        self.lock = threading.Lock()
        self.on_free: Callable[[], None] = _nothing
        self._at_once = at_once
        self._working = 0
        self._mine = threading.local()

    @property
    def are_free(self) -> bool:
        """True if one more may work; ask with ``lock`` held."""
        return self._working < self._at_once

    def begin(self) -> None:
        """This thread works from now on; call it with ``lock`` held."""
        self._working += 1
        self._mine.held = True

    def end(self) -> None:
        """This thread works no more, and looks by itself for what is next; call it with ``lock`` held."""
        if getattr(self._mine, "held", False):
            self._mine.held = False
            self._working -= 1

    def let_go(self) -> bool:
        """Go on without a turn; True if this thread had one."""
        held: bool = getattr(self._mine, "held", False)
        if held:
            with self.lock:
                self.end()
                self.on_free()
        return held

    @contextmanager
    def given_back(self) -> Iterator[None]:
        """Without its turn while this thread waits for something else; does nothing for a thread that has none."""
        had = self.let_go()
        try:
            yield
        finally:
            if had:
                with self.lock:
                    self.begin()  # without waiting for one: it has waited long enough


turns = Turns()
