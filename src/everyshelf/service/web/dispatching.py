"""Which requests work when: in the order they came, so many at once as there are turns (see ``base.turns``).

Of the threads that have nothing to do, the one that worked last is taken first: each thread has a connection to the
records with a cache of its own, and few warm ones are quicker and smaller than many.
"""

from __future__ import annotations

import logging
import threading
import time
from collections import deque
from typing import Any

from waitress.task import ThreadedTaskDispatcher

from everyshelf.service.base.turns import PATIENCE_SECONDS, Turns, turns

logger = logging.getLogger(__name__)
_STOP_SECONDS = 2.0


class TurnDispatcher(ThreadedTaskDispatcher):  # type: ignore[misc]
    """Hands whole requests to threads; one that has waited for ``patience`` seconds goes ahead without a turn."""

    def __init__(self, shared: Turns = turns, patience: float = PATIENCE_SECONDS) -> None:
        super().__init__()
        self._turns, self._patience = shared, patience
        self.lock = shared.lock
        self.queue_cv, self.thread_exit_cv = threading.Condition(self.lock), threading.Condition(self.lock)
        shared.on_free = self._wake
        self._since: deque[float] = deque()  # when each request of the queue came
        self._idle: list[threading.Condition] = []
        self._watching = 0  # threads that wait for the patience of a request to end

    def add_task(self, task: Any) -> None:
        """Queue a request."""
        with self.lock:
            self.queue.append(task)
            self._since.append(time.monotonic())
            self._wake()

    def set_thread_count(self, count: int) -> None:
        """Start or end threads until there are so many."""
        super().set_thread_count(count)
        with self.lock:
            while self._idle:
                self._idle.pop().notify()

    def shutdown(self, cancel_pending: bool = True, timeout: float = _STOP_SECONDS) -> bool:
        """End the threads; what still works after a moment ends with the process."""
        ended: bool = super().shutdown(cancel_pending, timeout)
        return ended

    def handler_thread(self, thread_no: int) -> None:
        """The work of one thread."""
        mine = threading.Condition(self.lock)
        while (task := self._next(thread_no, mine)) is not None:
            try:
                task.service()
            except BaseException:
                logger.exception("a request ended its thread's work")

    def _next(self, thread_no: int, mine: threading.Condition) -> Any:
        """The request that is next, as soon as it may work; None when this thread is to end."""
        with self.lock:
            self._turns.end()
            while self.stop_count == 0:
                if self.queue and (self._turns.are_free or self._left() <= 0):
                    return self._taken()
                self._wait(mine)
            self.active_count -= 1
            self.stop_count -= 1
            self.threads.discard(thread_no)
            self.thread_exit_cv.notify()
            return None

    def _taken(self) -> Any:
        self._turns.begin()
        self._since.popleft()
        task = self.queue.popleft()
        if self.queue and (self._turns.are_free or not self._watching):
            self._wake()
        return task

    def _wait(self, mine: threading.Condition) -> None:
        """Until there is something to do, or the patience of the request that is next ends."""
        is_watching = bool(self.queue) and not self._watching
        self.active_count -= 1
        self._watching += is_watching
        self._idle.append(mine)
        mine.wait(max(self._left(), 0.001) if is_watching else None)
        if mine in self._idle:
            self._idle.remove(mine)
        self._watching -= is_watching
        self.active_count += 1

    def _left(self) -> float:
        """Seconds that the request that is next still waits for a turn."""
        return self._since[0] + self._patience - time.monotonic()

    def _wake(self) -> None:
        """Call the thread that worked last, if a request waits; with ``lock`` held."""
        if self.queue and self._idle:
            self._idle.pop().notify()
