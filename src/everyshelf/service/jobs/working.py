"""The threads that work on jobs: which takes which, so that short ones never wait for long ones."""

from __future__ import annotations

import threading
import traceback

import structlog
from django.db import close_old_connections
from django.db.models import F, OuterRef, Subquery

from everyshelf.service.base.unchanged import while_unchanged
from everyshelf.service.jobs.actions import Sort, kinds_of, run_now
from everyshelf.service.jobs.models import Job, State

log = structlog.get_logger("everyshelf.jobs")
_FIRST_PAUSE_SECONDS, _LONGEST_PAUSE_SECONDS = 0.02, 0.25

# For each thread, the sorts of jobs it takes, the first first.
LANES: tuple[tuple[Sort, ...], ...] = (
    (Sort.SHORT,),
    (Sort.SHORT, Sort.LONG, Sort.AFTER),
    (Sort.AFTER, Sort.LONG),
    (Sort.QUERY,),
    (Sort.VERIFY,),
)
_RARE = (Sort.QUERY, Sort.VERIFY)  # nobody watches them by the tenth of a second
_IN_TURNS = (Sort.LONG, *_RARE)


def next_job(sorts: tuple[Sort, ...]) -> str | None:
    """The job that has waited longest, of the first of the sorts that has one; None if there is none. Of queries,
    verifying and other long work, of the person whose last one is longest ago: many of one person do not keep the
    others waiting."""
    for sort in sorts:
        jobs = Job.objects.filter(kind__in=kinds_of(sort))
        waiting = jobs.filter(state=State.WAITING).order_by("queued", "pk")
        if sort in _IN_TURNS:
            last = (
                jobs.filter(person=OuterRef("person"))
                .exclude(heartbeat=None)
                .order_by("-heartbeat")
                .values("heartbeat")[:1]
            )
            waiting = waiting.annotate(last=Subquery(last)).order_by(F("last").asc(nulls_first=True), "queued", "pk")
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
            uid = while_unchanged(("next job", sorts), lambda: next_job(sorts))
            if uid is not None:
                run_now(uid)
        except Exception:
            # Records that cannot be read or written for a while (a full disk) are asked again; jobs go on from there.
            log.error("the job worker could not work", trace=traceback.format_exc()[-4000:])
            pause = _LONGEST_PAUSE_SECONDS * 4
            continue
        longest = _LONGEST_PAUSE_SECONDS * (2 if sorts[0] in _RARE else 1)
        pause = 0.0 if uid is not None else min(pause * 1.5 + _FIRST_PAUSE_SECONDS, longest)
