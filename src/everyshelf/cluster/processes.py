"""Processes of this machine as those that work out parts.

They begin without what the process that asks has loaded, and give way to all others.
"""

from __future__ import annotations

import contextlib
import os
import signal
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, wait
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from loky import ProcessPoolExecutor
from loky.process_executor import BrokenProcessPool

from everyshelf.core.spreading import Bytes, UnreachedError

_IDLE_SECONDS = 300
_TICK_SECONDS = 0.1
_LOOK_SECONDS = 0.5
_NICE = 10


@contextlib.contextmanager
def opened(count: int) -> Iterator[ProcessSpread]:
    """So many processes, which are ended afterwards, whatever they are doing."""
    try:
        executor = ProcessPoolExecutor(max_workers=count, timeout=_IDLE_SECONDS, initializer=_begin)
    except OSError as error:
        raise UnreachedError(f"no other process can be started: {error}") from error
    try:
        yield ProcessSpread(executor)
    finally:
        executor.shutdown(wait=True, kill_workers=True)


def _begin() -> None:
    os.nice(_NICE)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    threading.Thread(target=_end_with, args=[os.getppid()], daemon=True).start()


def _end_with(parent: int) -> None:
    """End once the process that asked has: what is worked out here is for it alone."""
    while os.getppid() == parent:
        time.sleep(_LOOK_SECONDS)
    os._exit(0)


@dataclass(frozen=True)
class LocalFile:
    """A file of this machine."""

    path: Path

    def local(self, needed: Sequence[Bytes]) -> Path:
        """The file itself."""
        del needed
        return self.path


class ProcessSpread:
    """See ``core.spreading.Spread``."""

    def __init__(self, executor: ProcessPoolExecutor) -> None:
        self._executor = executor

    def hand_over(self, path: Path) -> LocalFile:
        """Files are read where they lie."""
        return LocalFile(path.resolve())

    def submit(self, work: Callable[..., Any], *given: Any, soon: bool = False) -> Any:
        """Have something worked out by one of them; waits for what earlier calls are to give it."""
        del soon
        try:
            return self._executor.submit(work, *map(_had, given))
        except (BrokenProcessPool, OSError, RuntimeError) as error:
            raise UnreachedError(f"{type(error).__name__}: {error}") from error

    def as_done(self, pending: Sequence[Any], tick: Callable[[], None] | None = None) -> Iterator[Any]:
        """The results, each as it is there; an error of the work itself is raised as it is."""
        waiting: set[Future[Any]] = set(pending)
        while waiting:
            done, waiting = wait(
                waiting, timeout=_TICK_SECONDS if tick is not None else None, return_when=FIRST_COMPLETED
            )
            if not done and tick is not None:
                tick()
            for future in done:
                yield _result(future)


def _result(future: Future[Any]) -> Any:
    try:
        return future.result()
    except BrokenProcessPool as error:
        raise UnreachedError(f"a process went down: {type(error).__name__}") from error


def _had(value: Any) -> Any:
    if isinstance(value, Future):
        return _result(value)
    return [_had(one) for one in value] if isinstance(value, list) else value
