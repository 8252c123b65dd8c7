"""Keeping the job worker alive: started, watched, and started again if it ends."""

from __future__ import annotations

import subprocess
import sys
import threading
import time
from pathlib import Path

import structlog

from everyshelf.service.base.config import get_config
from everyshelf.service.base.room import keep_reserve

log = structlog.get_logger("everyshelf.jobs")
_LONGEST_PAUSE_SECONDS = 30.0
_STEADY_SECONDS = 60.0
_STOP_SECONDS = 20.0


class WorkerKeeper:
    """Runs the job worker as a child process as long as the service runs."""

    def __init__(self) -> None:
        self._stop = threading.Event()
        self._process: subprocess.Popen[bytes] | None = None
        # The worker asks to be killed when the thread that started it ends (prctl(2)), so this one lasts until then.
        self._thread = threading.Thread(target=self._keep, name="worker-keeper", daemon=True)
        self.starts = 0

    def start(self) -> None:
        """Start it and watch it."""
        keep_reserve()
        Path(beat_file()).touch(mode=0o600)  # it has a minute from now on to be seen
        self._thread.start()

    @property
    def alive(self) -> bool:
        """Whether the worker's process runs."""
        return self._process is not None and self._process.poll() is None

    def _keep(self) -> None:
        pause = 0.5
        while not self._stop.is_set():
            begun = time.monotonic()
            self._process = subprocess.Popen([sys.executable, "-m", "everyshelf.service.worker"])
            self.starts += 1
            while not self._stop.wait(0.5) and self._process.poll() is None:
                keep_reserve()
            if self._stop.is_set():
                self._end(self._process)
                return
            log.error("the job worker ended and is started again", code=self._process.returncode)
            pause = 0.5 if time.monotonic() - begun > _STEADY_SECONDS else min(pause * 2, _LONGEST_PAUSE_SECONDS)
            self._stop.wait(pause)

    def stop(self) -> None:
        """End it in good order; a job at work goes on after the next start."""
        self._stop.set()
        self._thread.join(2 * _STOP_SECONDS)

    @staticmethod
    def _end(process: subprocess.Popen[bytes]) -> None:
        process.terminate()
        try:
            process.wait(_STOP_SECONDS)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()


_keepers: list[WorkerKeeper] = []


def start_keeper() -> WorkerKeeper:
    """The one keeper of this process, started."""
    keeper = WorkerKeeper()
    _keepers.append(keeper)
    keeper.start()
    return keeper


def keeper() -> WorkerKeeper | None:
    """The keeper of this process, if it is the one that serves."""
    return _keepers[-1] if _keepers else None


def beat_file() -> str:
    """The file whose time stamp says when the worker was last seen at work."""
    return str(get_config().data / "worker-beat")
