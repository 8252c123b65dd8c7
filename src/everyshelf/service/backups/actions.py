"""Use cases of administrators: see the backups of this installation, begin one, and the schedule."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from django.contrib.auth.models import User
from django.utils import timezone

from everyshelf.core.errors import EveryShelfError, InvalidError
from everyshelf.service.backups.layout import BackupFolder, Moment, told_of
from everyshelf.service.backups.making import Progress, make_backup
from everyshelf.service.backups.retention import keep_newest
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.config import get_config
from everyshelf.service.jobs.actions import job_json, start_job
from everyshelf.service.jobs.models import Job, State
from everyshelf.service.log.actions import note
from everyshelf.service.people.accounts import require_admin
from everyshelf.service.rights import Caller

KIND = "backup"


def list_backups(caller: Caller) -> dict[str, Any]:
    """The schedule, the moments in its folder, newest last, and the newest job; for administrators."""
    require_admin(caller)
    config = get_config()
    newest = Job.objects.filter(kind=KIND).order_by("-pk").first()
    return {
        "folder": str(config.backup) if config.backup else "",
        "hours": config.backup_hours,
        "keep": config.backup_keep,
        "moments": [told_of(moment) for moment in _moments()],
        "unreadable": _unreadable(),
        "job": job_json(newest) if newest is not None else None,
    }


def start_backup(caller: Caller) -> Job:
    """Begin a backup as a job; for administrators."""
    require_admin(caller)
    if get_config().backup is None:
        raise InvalidError(
            "no folder is set up for backups",
            code="backup.unset",
            hint="Set EVERYSHELF_BACKUP to a folder on another disk and start the service again.",
        )
    with one_act():
        note(caller, "backup.make", "this installation")
        return start_job(caller, KIND, None, {})


def back_up(progress: Progress) -> dict[str, Any]:
    """Make a backup where this installation keeps them, and drop the oldest."""
    config = get_config()
    assert config.backup is not None
    moment = make_backup(config.data, config.backup, progress)
    dropped = keep_newest(BackupFolder.open(config.backup), config.backup_keep)
    return {**_plain(told_of(moment)), "dropped": dropped}


def back_up_when_due() -> None:
    """Start a backup if the newest is older than the schedule says, and the last try is, too."""
    config = get_config()
    if config.backup is None or not config.backup_hours:
        return
    since = timezone.now() - timedelta(hours=config.backup_hours)
    moments = _moments()
    if moments and moments[-1].made > since:
        return
    tried = Job.objects.filter(kind=KIND).order_by("-pk").first()
    hour_ago = timezone.now() - timedelta(hours=1)
    if tried is not None and (tried.state in (State.WAITING, State.RUNNING) or tried.created > hour_ago):
        return
    person = User.objects.filter(is_staff=True, is_active=True).order_by("pk").first()
    if person is not None:
        start_job(Caller(person), KIND, None, {})


def _unreadable() -> list[str]:
    folder = get_config().backup
    try:
        return BackupFolder.open(folder).unreadable() if folder is not None else []
    except EveryShelfError:
        return []


def _moments() -> list[Moment]:
    folder = get_config().backup
    try:
        return BackupFolder.open(folder).all() if folder is not None else []
    except EveryShelfError:  # none was made yet, or the disk is not there
        return []


def _plain(told: dict[str, Any]) -> dict[str, Any]:
    return {**told, "made": told["made"].isoformat()}
