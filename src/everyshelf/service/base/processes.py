"""The processes of a service: those that answer, and the job worker, kept alive by the one that was started.

The first process answers nothing itself: it listens, starts the others, starts again what ends, and ends them in good
order. It has one thread, so it may fork at any time. It writes the state of its children to a file
for ``/healthz``.
"""

from __future__ import annotations

import contextlib
import ctypes
import os
import signal
import subprocess
import time
from collections.abc import Callable
from pathlib import Path
from typing import Protocol

import msgspec
import structlog

from everyshelf.decoding import from_json
from everyshelf.service.base.config import get_config

_M_ARENA_MAX = -8  # malloc.h

log = structlog.get_logger("everyshelf.processes")
_LONGEST_PAUSE_SECONDS = 30.0
_STEADY_SECONDS = 60.0
_STOP_SECONDS = 4.0
_LOOK_SECONDS = 0.5


class Process(Protocol):
    """A child process."""

    pid: int

    def poll(self) -> int | None:
        """Return its exit code, or None while it runs."""

    def wait(self, timeout: float | None = None) -> int:
        """Wait for its exit code; raises ``subprocess.TimeoutExpired``."""


class Forked:
    """A copy of this process that calls ``act`` and ends."""

    def __init__(self, act: Callable[[], None]) -> None:
        self._code: int | None = None
        parent = os.getpid()
        self.pid = os.fork()
        if self.pid:
            return
        code = 1
        try:
            end_with_parent(parent)
            act()
            code = 0
        except SystemExit as end:
            code = end.code if isinstance(end.code, int) else 1
        except BaseException:
            log.exception("a process of the service failed")
        finally:
            os._exit(code)

    def poll(self) -> int | None:
        """Return its exit code, or None while it runs."""
        if self._code is None:
            pid, status = os.waitpid(self.pid, os.WNOHANG)
            if pid:
                self._code = os.waitstatus_to_exitcode(status)
        return self._code

    def wait(self, timeout: float | None = None) -> int:
        """Wait for its exit code."""
        end = None if timeout is None else time.monotonic() + timeout
        while (code := self.poll()) is None:
            if end is not None and time.monotonic() > end:
                raise subprocess.TimeoutExpired("fork", timeout or 0)
            time.sleep(0.02)
        return code


class Kept:
    """A child that is started again when it ends; sooner if it ran for a while."""

    def __init__(self, name: str, start: Callable[[], Process]) -> None:
        self.name = name
        self.starts = 0
        self._start = start
        self._pause = _LOOK_SECONDS
        self._begun = 0.0
        self._next = 0.0
        self._process: Process | None = None

    @property
    def alive(self) -> bool:
        """Whether it runs."""
        return self._process is not None and self._process.poll() is None

    @property
    def pid(self) -> int | None:
        """Its number; None while it does not run."""
        return self._process.pid if self.alive and self._process is not None else None

    def look(self) -> bool:
        """Start it if it does not run and its pause is over; True if something changed."""
        now = time.monotonic()
        if self.alive:
            return False
        if self._process is not None:
            log.error(f"the {self.name} ended and is started again", code=self._process.poll())
            steady = now - self._begun > _STEADY_SECONDS
            self._pause = _LOOK_SECONDS if steady else min(self._pause * 2, _LONGEST_PAUSE_SECONDS)
            self._next = now + self._pause
            self._process = None
            return True
        if now < self._next:
            return False
        self._begun, self._process = now, self._start()
        self.starts += 1
        return True

    def ask_to_end(self) -> None:
        """Send SIGTERM."""
        if self.alive and self._process is not None:
            with contextlib.suppress(ProcessLookupError):
                os.kill(self._process.pid, signal.SIGTERM)

    def end(self, seconds: float) -> None:
        """Wait until it ended, at most so long; then it is killed."""
        if self._process is None:
            return
        try:
            self._process.wait(seconds)
        except subprocess.TimeoutExpired:
            os.kill(self._process.pid, signal.SIGKILL)
            self._process.wait()


def keep_alive(children: list[Kept], until: Callable[[], bool], meanwhile: Callable[[], None]) -> None:
    """Keep the children running until ``until`` says so, then end them in good order; ``meanwhile`` is called twice a
    second."""
    for child in children:
        child.look()
    _note(children)
    try:
        while not until():
            changed = [child.look() for child in children]
            if any(changed):
                _note(children)
            meanwhile()
            time.sleep(_LOOK_SECONDS)
    finally:
        for child in children:
            child.ask_to_end()
        end = time.monotonic() + _STOP_SECONDS
        for child in children:
            child.end(max(0.1, end - time.monotonic()))


class State(msgspec.Struct):
    """Whether a child runs, how often it was started, and the number the system gave it last."""

    running: bool
    starts: int
    pid: int | None = None


def _note(children: list[Kept]) -> None:
    states = {child.name: State(child.alive, child.starts, child.pid) for child in children}
    part = states_file().with_name(".processes.part")
    with contextlib.suppress(OSError):  # on a full disk; the beat of the worker still says how it is
        part.write_bytes(msgspec.json.encode(states))
        os.replace(part, states_file())


def states() -> dict[str, State]:
    """Return the state of each child by name; empty if unknown."""
    try:
        return from_json(states_file().read_bytes(), dict[str, State])
    except (OSError, msgspec.DecodeError):
        return {}


def states_file() -> Path:
    """The file to which the first process writes the state of its children."""
    return get_config().data / "processes.json"


def beat_file() -> Path:
    """The file whose time stamp says when the job worker was last seen at work."""
    return get_config().data / "worker-beat"


def end_with_parent(parent: int) -> None:
    """Ask the kernel for SIGKILL when the parent dies (prctl(2), PR_SET_PDEATHSIG), also if it was killed with -9."""
    ctypes.CDLL(None, use_errno=True).prctl(1, signal.SIGKILL)
    if os.getppid() != parent:
        os._exit(0)


def keep_few_arenas() -> None:
    """Let all threads of this process share two pools of memory (mallopt(3), M_ARENA_MAX); does nothing where the C
    library has no such thing. With one for each thread, what one of them has freed no other can use: a web process that
    lists large shelves held a quarter more."""
    with contextlib.suppress(AttributeError, OSError):
        ctypes.CDLL(None).mallopt(_M_ARENA_MAX, 2)


def give_back_memory() -> None:
    """Give what this process has freed back to the system (malloc_trim(3)), which costs a few milliseconds; does
    nothing where the C library has no such thing. By itself it keeps what was needed once, for a page of a large
    shelf or while it caught up with many commits."""
    with contextlib.suppress(AttributeError, OSError):
        ctypes.CDLL(None).malloc_trim(0)
