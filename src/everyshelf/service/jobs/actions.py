"""Starting, running, cancelling jobs. Each kind of job is a function registered here with what a restart does to it."""

from __future__ import annotations

import time
import traceback
import uuid
from collections.abc import Callable
from dataclasses import dataclass
from enum import IntEnum
from typing import Any

import structlog
from django.db import DatabaseError, close_old_connections
from django.db.models import F
from django.utils import timezone

from everyshelf.core.content.stores import MAIN, in_store
from everyshelf.core.errors import EveryShelfError, MissingError
from everyshelf.service.base.context import get_store
from everyshelf.service.base.room import is_not_writable
from everyshelf.service.jobs.models import Job, State
from everyshelf.service.problems import body, problem_of, status_of
from everyshelf.service.rights import Caller, require, role_on

log = structlog.get_logger("everyshelf.jobs")
_SAVE_EVERY_SECONDS = 0.25
_MOST_ATTEMPTS = 3
_TURN_SECONDS, _LOOK_AGAIN_SECONDS = 3.0, 1.0
_FIRST_PAUSE_SECONDS = 0.02


class CancelledError(EveryShelfError):
    """The job was cancelled by whoever may."""

    code = "job.cancelled"


class GaveWayError(EveryShelfError):
    """The job worked for its turn while others waited; it goes on when they have had theirs."""


class Sort(IntEnum):
    """What waits for a job: someone, for an act of seconds; someone, for as long as it takes; or only what is shown.
    Queries and verifying, of which one person can ask for many, have threads of their own."""

    SHORT = 0
    LONG = 1
    AFTER = 2
    QUERY = 3
    VERIFY = 4


@dataclass(frozen=True)
class Kind:
    """What a kind of job does, whether it may run again after a restart, and how urgent it is."""

    run: Callable[[Run], dict[str, Any] | None]
    resumes: bool
    sort: Sort


kinds: dict[str, Kind] = {}


def kinds_of(*sorts: Sort) -> list[str]:
    """The names of the kinds of these sorts."""
    return [name for name, kind in kinds.items() if kind.sort in sorts]


class Run:
    """What the function of a job gets: its parameters, and a way to report progress that also notices a cancel."""

    def __init__(self, job: Job) -> None:
        self.job = job
        self._saved = 0.0
        self._cancellable = True
        self._turn_ends = time.monotonic() + _TURN_SECONDS

    @property
    def shelf(self) -> Any:
        """The shelf the job works on; only for jobs of a shelf."""
        return self.job.shelf

    @property
    def parameters(self) -> dict[str, Any]:
        """What the job was started with."""
        parameters: dict[str, Any] = self.job.parameters
        return parameters

    def progress(self, done: int, total: int, note: str = "") -> None:
        """Tell how far it is; raises ``CancelledError`` if a cancel was asked for and still makes sense."""
        if time.monotonic() - self._saved < _SAVE_EVERY_SECONDS and done != total:
            return
        self._saved = time.monotonic()
        Job.objects.filter(pk=self.job.pk).update(done=done, total=total, note=note[:300], heartbeat=timezone.now())
        asked = Job.objects.filter(pk=self.job.pk, cancel_asked=True).exists()
        if asked and self._cancellable:
            raise CancelledError("cancelled before anything was switched")

    def give_way(self) -> None:
        """Raise ``GaveWayError`` if it has worked for its turn and others wait: the job runs again later, from its
        start. Only for what passes over what it has done already."""
        if time.monotonic() < self._turn_ends:
            return
        others = kinds_of(*(sort for sort in Sort if sort <= kinds[self.job.kind].sort))
        if Job.objects.filter(state=State.WAITING, kind__in=others).exists():
            raise GaveWayError("others waited")
        self._turn_ends = time.monotonic() + _LOOK_AGAIN_SECONDS

    def no_more_cancel(self) -> None:
        """From here on the work is finished whatever is asked."""
        self._cancellable = False


def job_kind(name: str, *, resumes: bool, sort: Sort = Sort.LONG) -> Callable[[Any], Any]:
    """Register the function of a kind of job. ``resumes``: after a restart it runs again from its start (so it must
    bear that); else it fails cleanly."""

    def register(run: Callable[[Run], dict[str, Any] | None]) -> Callable[[Run], dict[str, Any] | None]:
        kinds[name] = Kind(run, resumes, sort)
        return run

    return register


_periodic: list[tuple[float, Callable[[], None]]] = []


def periodic(*, seconds: float) -> Callable[[Callable[[], None]], Callable[[], None]]:
    """Register what the worker does every so often, beside its jobs."""

    def register(work: Callable[[], None]) -> Callable[[], None]:
        _periodic.append((seconds, work))
        return work

    return register


def run_periodic(stop: Callable[[float], bool]) -> None:
    """Do what is registered, each in its time, until ``stop`` (which waits the seconds it is given) says so."""
    due = [time.monotonic()] * len(_periodic)
    while not stop(1.0):
        close_old_connections()
        for place, (seconds, work) in enumerate(_periodic):
            if time.monotonic() < due[place]:
                continue
            due[place] = time.monotonic() + seconds
            try:
                work()
            except Exception:
                log.error("periodic work failed", work=work.__name__, trace=traceback.format_exc()[-4000:])


def start_job(caller: Caller, kind: str, shelf: Any, parameters: dict[str, Any]) -> Job:
    """Record a job; the worker finds it there once the act it belongs to is committed. The same job is not recorded
    twice while the first waits or runs."""
    open_states = (State.WAITING, State.RUNNING)
    waiting = Job.objects.filter(kind=kind, shelf=shelf, state__in=open_states, parameters=parameters).first()
    if waiting is not None:
        return waiting
    job = Job.objects.create(uid=uuid.uuid4().hex, kind=kind, shelf=shelf, person=caller.person, parameters=parameters)
    return job


def run_now(uid: str) -> None:
    """Run one job in this process; called by the worker."""
    close_old_connections()
    taken = Job.objects.filter(uid=uid, state=State.WAITING).update(
        state=State.RUNNING, heartbeat=timezone.now(), attempts=F("attempts") + 1
    )
    if not taken:
        return
    job = Job.objects.select_related("shelf", "person").get(uid=uid)
    try:
        store = job.shelf.store if job.shelf is not None else MAIN
        # What it relies on stays until its records name it; what it writes goes where its shelf lives.
        with get_store().segments.users.one(), in_store(store):
            result = kinds[job.kind].run(Run(job))
    except GaveWayError:
        Job.objects.filter(pk=job.pk).update(state=State.WAITING, queued=timezone.now(), attempts=F("attempts") - 1)
    except CancelledError as error:
        _end(job, State.CANCELLED, problem=body(409, error.message, error.code))
    except EveryShelfError as error:
        facts = {k: v for k, v in error.facts.items() if isinstance(v, str | int | list | dict)}
        problem = body(status_of(error), error.message, error.code, error.hint, **facts)
        _end(job, State.FAILED, problem=problem)
    except Exception as error:
        if is_not_writable(error):
            _end(job, State.FAILED, problem=problem_of(error))
            return
        log.error("job failed", kind=job.kind, job=uid, trace=traceback.format_exc()[-4000:])
        problem = problem_of(error)
        if problem["code"] == "service.failed":
            problem = body(500, "Something went wrong here.", "service.failed", f"Tell an administrator: job {uid}.")
        _end(job, State.FAILED, problem=problem)
    else:
        _end(job, State.DONE, result=result or {})


def _end(
    job: Job, state: State, *, result: dict[str, Any] | None = None, problem: dict[str, Any] | None = None
) -> None:
    """Record how it ended. What was done is done: on a full disk it is tried until there is room to say so."""
    pause = _FIRST_PAUSE_SECONDS
    while True:
        try:
            Job.objects.filter(pk=job.pk).update(state=state, result=result, problem=problem, ended=timezone.now())
        except DatabaseError as error:
            log.error("the end of a job could not be recorded yet", job=job.uid, why=str(error))
            pause = min(pause * 2, 2.0)
            time.sleep(pause)
            close_old_connections()
        else:
            return


def get_job(caller: Caller, uid: str) -> Job:
    """A job the caller started, or one on a shelf the caller may see."""
    job = Job.objects.select_related("shelf").filter(uid=uid).first()
    if job is None or (job.person_id != caller.person.pk and (job.shelf is None or role_on(caller, job.shelf) is None)):
        raise MissingError(f"there is no job {uid[:12]!r}", code="job.missing")
    return job


def cancel_job(caller: Caller, uid: str) -> Job:
    """Ask a job to stop: it does at its next step, unless it is past its switch; it undoes what it planned."""
    job = get_job(caller, uid)
    if job.person_id != caller.person.pk:
        require(caller, job.shelf, "promote")
    Job.objects.filter(pk=job.pk, state__in=(State.WAITING, State.RUNNING)).update(cancel_asked=True)
    job.refresh_from_db()
    return job


def take_up_after_restart() -> None:
    """Decide what becomes of jobs an earlier process left running: they wait again, or failed."""
    for job in Job.objects.filter(state=State.RUNNING):
        kind = kinds.get(job.kind)
        if job.attempts >= _MOST_ATTEMPTS:
            why = f"the job worker ended {job.attempts} times while this ran"
            _end(job, State.FAILED, problem=body(500, why, "job.fatal", f"Tell an administrator: job {job.uid}."))
        elif kind is not None and kind.resumes and not job.cancel_asked:
            Job.objects.filter(pk=job.pk).update(state=State.WAITING)
        else:
            _end(
                job,
                State.FAILED,
                problem=body(
                    503,
                    "the service stopped while this ran",
                    "job.interrupted",
                    "Start it again; nothing was left half-done.",
                ),
            )


def job_json(job: Job) -> dict[str, Any]:
    """A job's public form."""
    return {
        "job": job.uid,
        "kind": job.kind,
        "shelf": job.shelf.key if job.shelf else None,
        "state": job.state,
        "done": job.done,
        "total": job.total,
        "note": job.note,
        "result": job.result,
        "problem": job.problem,
        "created": job.created,
        "ended": job.ended,
        "parameters": job.parameters,
    }
