"""The job worker: a process of its own beside the web process, which ends with it however that ends.

``python -m everyshelf.service.jobs.worker``
"""

from __future__ import annotations

import ctypes
import os
import signal
import threading


def end_with_parent() -> None:
    """Ask the kernel for SIGKILL when the parent dies (prctl(2), PR_SET_PDEATHSIG), also if it was killed with -9."""
    ctypes.CDLL(None, use_errno=True).prctl(1, signal.SIGKILL)
    if os.getppid() == 1:
        os._exit(0)


def main() -> None:
    """Take up what an earlier process left, then work."""
    end_with_parent()
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "everyshelf.service.settings")
    import django

    django.setup()
    from everyshelf.service.jobs.actions import run_periodic, take_up_after_restart
    from everyshelf.service.jobs.kinds import load
    from everyshelf.service.jobs.queue import huey, run_job

    load()
    huey.flush()
    for uid in take_up_after_restart():
        run_job(uid)
    threading.Thread(target=run_periodic, args=[threading.Event().wait], daemon=True).start()
    huey.create_consumer(
        workers=2,
        worker_type="thread",
        initial_delay=0.05,
        max_delay=0.25,
        backoff=1.3,
        periodic=False,
        check_worker_health=True,
    ).run()


if __name__ == "__main__":
    main()
