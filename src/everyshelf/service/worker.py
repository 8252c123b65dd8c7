"""The job worker: a process of its own beside the web processes."""

from __future__ import annotations

import contextlib
import os
import signal
import threading
import time
from pathlib import Path

from everyshelf.core.errors import EveryShelfError
from everyshelf.service.base.config import get_config
from everyshelf.service.base.context import get_store, have_readers, rest_readers
from everyshelf.service.base.processes import beat_file, give_back_memory
from everyshelf.service.jobs.actions import run_periodic, take_up_after_restart
from everyshelf.service.jobs.working import LANES, work_on_jobs

_BEAT_SECONDS = 1.0
_BEATS_BETWEEN_GIVING_BACK = 30
_LEAST_READERS = 2  # short jobs do not wait while a long one reads
_STOP_SECONDS = 2.5


def work() -> None:
    """Take up what an earlier process left, then work until SIGTERM; does not return."""
    with contextlib.suppress(EveryShelfError, OSError):
        get_store()  # opened before there are threads, of which two would open it twice
    have_readers(max(_LEAST_READERS, get_config().processes))
    take_up_after_restart()
    stop = threading.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda *_: stop.set())
    threads = [threading.Thread(target=work_on_jobs, args=[stop, lane], daemon=True) for lane in LANES]
    threads.append(threading.Thread(target=run_periodic, args=[stop.wait], daemon=True))
    for thread in threads:
        thread.start()
    beat = beat_file()
    beats = 0
    while not stop.wait(_BEAT_SECONDS) and all(thread.is_alive() for thread in threads):
        _beat(beat)
        beats += 1
        if beats % _BEATS_BETWEEN_GIVING_BACK == 0:
            give_back_memory()
            rest_readers()
    stop.set()
    end = time.monotonic() + _STOP_SECONDS
    for thread in threads:
        thread.join(max(0.0, end - time.monotonic()))
    get_store().close()
    os._exit(0)  # a job that is still at work goes on after the next start


def _beat(beat: Path) -> None:
    try:
        beat.touch(mode=0o600)
    except OSError:
        pass  # on a full disk the file cannot be made; its age then says so
