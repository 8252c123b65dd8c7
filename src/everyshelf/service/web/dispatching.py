"""Which requests work when: in the order they came, so many at once as there are turns (see ``base.turns``)."""

from __future__ import annotations

import logging
import time
from collections import deque
from typing import Any

from waitress.task import ThreadedTaskDispatcher

from everyshelf.service.base.turns import PATIENCE_SECONDS, Turns, turns

logger = logging.getLogger(__name__)


class TurnDispatcher(ThreadedTaskDispatcher):  # type: ignore[misc]
    """Hands whole requests to threads; one that has waited for ``patience`` seconds goes ahead without a turn."""

    def __init__(self, shared: Turns = turns, patience: float = PATIENCE_SECONDS) -> None:
        super().__init__()
        self._turns, self._patience = shared, patience
        self.lock, self.queue_cv = shared.lock, shared.freed
        self.thread_exit_cv = type(self.queue_cv)(self.lock)
        self._since: deque[float] = deque()

    def add_task(self, task: Any) -> None:
        """Queue a request."""
        with self.lock:
            self._since.append(time.monotonic())
        super().add_task(task)

    def handler_thread(self, thread_no: int) -> None:
        """The work of one thread."""
        while (task := self._next(thread_no)) is not None:
            try:
                task.service()
            except BaseException:
                logger.exception("a request ended its thread's work")
            finally:
                self._turns.let_go()

    def _next(self, thread_no: int) -> Any:
        """The request that is next, as soon as it may work; None when this thread is to end."""
        with self.lock:
            while self.stop_count == 0:
                if self.queue and (self._turns.are_free or time.monotonic() - self._since[0] >= self._patience):
                    self._turns.begin()
                    self._since.popleft()
                    return self.queue.popleft()
                self.active_count -= 1
                self.queue_cv.wait(self._patience if self.queue else None)
                self.active_count += 1
            self.active_count -= 1
            self.stop_count -= 1
            self.threads.discard(thread_no)
            self.thread_exit_cv.notify()
            return None
