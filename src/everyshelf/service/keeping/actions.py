"""Use cases of administrators: see what the store holds, and have it tidied."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

from django.contrib.auth.models import User
from django.db.models import Min, Sum
from django.utils import timezone

from everyshelf.core.content.compacting import holding
from everyshelf.core.content.in_use import read_condemned
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.clock import is_recent
from everyshelf.service.base.config import get_config
from everyshelf.service.base.context import get_store
from everyshelf.service.jobs.actions import job_json, start_job
from everyshelf.service.jobs.models import Job, State
from everyshelf.service.keeping.homes import home_state
from everyshelf.service.keeping.reclaiming import list_unused, waiting_contents
from everyshelf.service.keeping.shrinking import tidied, waiting_bytes
from everyshelf.service.log.actions import note
from everyshelf.service.people.accounts import require_admin
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.models import ArtifactVersion, Shelf

KIND = "tidy"
MAX_PAGE = 1000
_SOON_BYTES = 64 * 1024 * 1024  # of new versions: then a run does not wait for its hour


def storage_state(caller: Caller) -> dict[str, Any]:
    """What the store holds and how far tidying has come; for administrators."""
    require_admin(caller)
    held, row = holding(get_store().segments), tidied()
    newest = Job.objects.filter(kind=KIND).order_by("-pk").first()
    return {
        "versions": ArtifactVersion.objects.exclude(content="").count(),
        "versions_bytes": ArtifactVersion.objects.aggregate(all=Sum("size"))["all"] or 0,
        "stored": held.bytes,
        "deltas": held.deltas,
        "saved": row.saved,
        "waiting": waiting_bytes(),
        **waiting_contents(),
        "hours": get_config().tidy_hours,
        "tidied": row.done,
        "job": job_json(newest) if newest is not None else None,
        **home_state(),
    }


def unused_contents(caller: Caller, after: int, limit: int) -> dict[str, Any]:
    """Which contents were sent and never used, and when each is let go of; for administrators."""
    require_admin(caller)
    return list_unused(after, min(limit, MAX_PAGE))


def start_tidying(caller: Caller) -> Job:
    """Begin to tidy the store, as a job; for administrators."""
    require_admin(caller)
    with one_act():
        note(caller, "storage.tidy", "this installation")
        return start_job(caller, KIND, None, {"asked": True})


def _is_waiting_since(since: datetime) -> bool:
    """Whether there is something to do that was there before."""
    oldest = ArtifactVersion.objects.filter(pk__gt=tidied().version).order_by("pk").first()
    if oldest is not None:
        return oldest.commit.recorded < since
    return len(read_condemned(get_store().segments.place)) > 0 or _is_unlooked()


def _is_unlooked() -> bool:
    """Whether it was not looked for a day for what nothing reaches."""
    looked = tidied().looked or Shelf.objects.aggregate(first=Min("created"))["first"]
    return looked is not None and not is_recent(looked, timedelta(days=1))


def tidy_when_due() -> None:
    """Start a run when its hour has come and there is something to look at, or when there is much."""
    hours = get_config().tidy_hours
    if not hours:
        return
    waiting = waiting_bytes()
    newest = Job.objects.filter(kind=KIND).order_by("-pk").first()
    since = timezone.now() - timedelta(hours=hours)
    if newest is not None and (
        newest.state in (State.WAITING, State.RUNNING) or is_recent(newest.created, timedelta(hours=hours))
    ):
        return
    if waiting < _SOON_BYTES and not _is_waiting_since(since):
        return
    person = User.objects.filter(is_staff=True, is_active=True).order_by("pk").first()
    if person is not None:
        start_job(Caller(person), KIND, None, {})
