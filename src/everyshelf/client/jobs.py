"""Waiting for jobs."""

from __future__ import annotations

import time
from collections.abc import Callable

from everyshelf.client.errors import ProblemError
from everyshelf.client.models import Job
from everyshelf.client.transport import Transport

Progress = Callable[[Job], None]


def wait_for(transport: Transport, job: Job, on_progress: Progress | None = None) -> Job:
    """Ask until a job ended; raises ``ProblemError`` if it failed or was cancelled."""
    pause = 0.03
    while not job.ended:
        time.sleep(pause)
        pause = min(pause * 1.4, 0.5)
        job = transport.get(f"jobs/{job.job}", Job)
        if on_progress is not None:
            on_progress(job)
    if job.state != "done":
        problem = job.problem or {"detail": f"the job was {job.state}"}
        raise ProblemError(int(problem.get("status", 500)), problem)
    return job
