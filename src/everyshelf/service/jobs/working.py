"""The threads that work on jobs: which takes which, so that short ones never wait for long ones."""

from __future__ import annotations

import threading
import traceback

import structlog
from django.db import close_old_connections

from everyshelf.service.jobs.actions import Sort, kinds_of, run_now
from everyshelf.service.jobs.models import Job, State

log = structlog.get_logger("everyshelf.jobs")
_FIRST_PAUSE_SECONDS, _LONGEST_PAUSE_SECONDS = 0.02, 0.25

# For each thread, the sorts of jobs it takes, the first first.
LANES: tuple[tuple[Sort, ...], ...] = (
    (Sort.SHORT,),
    (Sort.SHORT, Sort.LONG, Sort.AFTER),
    (Sort.AFTER, Sort.LONG),
)


def next_job(sorts: tuple[Sort, ...]) -> str | None:
    """The job that has waited longest, of the first of the sorts that has one; None if there is none."""
    for sort in sorts:
        waiting = Job.objects.filter(state=State.WAITING, kind__in=kinds_of(sort)).order_by("queued", "pk")
        uid = waiting.values_list("uid", flat=True).first()
        if uid is not None:
            return uid
    return None


def work_on_jobs(stop: threading.Event, sorts: tuple[Sort, ...]) -> None:
    """Run jobs of these sorts as they come, one at a time, until ``stop`` is set. The records are the queue: what is
    recorded there is found, whatever happened to who recorded it."""
    pause = _FIRST_PAUSE_SECONDS
    while not stop.wait(pause):
        try:
            close_old_connections()
            uid = next_job(sorts)
            if uid is not None:
                run_now(uid)
        except Exception:
            # Records that cannot be read or written for a while (a full disk) are asked again; jobs go on from there.
            log.error("the job worker could not work", trace=traceback.format_exc()[-4000:])
            pause = _LONGEST_PAUSE_SECONDS * 4
            continue
        pause = 0.0 if uid is not None else min(pause * 1.5 + _FIRST_PAUSE_SECONDS, _LONGEST_PAUSE_SECONDS)
