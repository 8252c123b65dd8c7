"""Processes that end when the one that started them does, whatever ended it.

The kernel sends the signal of ``PR_SET_PDEATHSIG`` (prctl(2)) when the *thread* that started a process ends, not its
process. So they are started by one thread that lasts as long as the process; the child asks for the signal itself.
"""

from __future__ import annotations

import contextlib
import ctypes
import os
import resource
import signal
import subprocess
import sys
import threading
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Any

_PARENT = "EVERYSHELF_STARTED_BY"
_PR_SET_PDEATHSIG = 1
_lock = threading.Lock()
_starters: dict[int, ThreadPoolExecutor] = {}  # by process: a fork has none of its parent's threads


def start(command: Sequence[str], **options: Any) -> subprocess.Popen[bytes]:
    """As ``subprocess.Popen``, by the thread that lasts. A child that calls ``end_with_parent`` ends with this one."""
    return _starter().submit(begin, command, **options).result()


def begin(command: Sequence[str], **options: Any) -> subprocess.Popen[bytes]:
    """As ``subprocess.Popen``, by this thread. A child that calls ``end_with_parent`` ends with this thread."""
    environment = {**(options.pop("env", None) or os.environ), _PARENT: str(os.getpid())}
    return subprocess.Popen(command, env=environment, **options)


def _starter() -> ThreadPoolExecutor:
    with _lock:
        known = _starters.get(os.getpid())
        if known is None:
            known = _starters[os.getpid()] = ThreadPoolExecutor(1, "every-shelf-starts")
        return known


def parent_is(pid: int) -> None:
    """Say which process forked this one, for ``end_with_parent``."""
    os.environ[_PARENT] = str(pid)


def end_with_parent() -> None:
    """Let this process be ended with the one that started it by ``start``."""
    if not sys.platform.startswith("linux"):
        return  # the end of its input ends it there, once it reads again
    ctypes.CDLL(None, use_errno=True).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)
    if os.environ.get(_PARENT, str(os.getppid())) != str(os.getppid()):
        os._exit(0)  # it ended before the signal was asked for


def limit_processor_time(pid: int, seconds: float) -> None:
    """Let the kernel end a process that has used so much processor time in all (SIGXCPU), also where nobody looks."""
    with contextlib.suppress(OSError, AttributeError, ValueError):
        resource.prlimit(pid, resource.RLIMIT_CPU, (int(seconds) + 1, resource.RLIM_INFINITY))
