"""Use cases of administrators: see the backups of this installation, begin one, and the schedule."""

from __future__ import annotations

import contextlib
from datetime import timedelta
from typing import Any

from django.contrib.auth.models import User

from everyshelf.core.errors import EveryShelfError, InvalidError, MissingError
from everyshelf.service.backups.layout import Backups, Moment, told_of
from everyshelf.service.backups.making import Progress, make_backup
from everyshelf.service.backups.opening import open_backups
from everyshelf.service.backups.retention import keep_newest
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.clock import is_recent
from everyshelf.service.base.config import get_config
from everyshelf.service.jobs.actions import job_json, start_job
from everyshelf.service.jobs.models import Job, State
from everyshelf.service.log.actions import note
from everyshelf.service.people.accounts import require_admin
from everyshelf.service.rights import Caller

KIND = "backup"


def list_backups(caller: Caller) -> dict[str, Any]:
    """The schedule, the moments that were made, newest last, and the newest job; for administrators. ``problem``: why
    the moments cannot be listed."""
    require_admin(caller)
    config = get_config()
    newest = Job.objects.filter(kind=KIND).order_by("-pk").first()
    backups, problem = _backups()
    return {
        "folder": config.backup,
        "hours": config.backup_hours,
        "keep": config.backup_keep,
        "moments": [told_of(moment) for moment in backups.all()] if backups is not None else [],
        "unreadable": backups.unreadable() if backups is not None else [],
        "problem": problem,
        "job": job_json(newest) if newest is not None else None,
    }


def start_backup(caller: Caller) -> Job:
    """Begin a backup as a job; for administrators."""
    require_admin(caller)
    if not get_config().backup:
        raise InvalidError(
            "no place is set up for backups",
            code="backup.unset",
            hint="Set EVERYSHELF_BACKUP to a folder on another disk or to s3://BUCKET/PREFIX; start the service again.",
        )
    with one_act():
        note(caller, "backup.make", "this installation")
        return start_job(caller, KIND, None, {})


def back_up(progress: Progress) -> dict[str, Any]:
    """Make a backup where this installation keeps them, and drop the oldest."""
    config = get_config()
    moment = make_backup(
        config.data, config.backup, progress, endpoint=config.backup_endpoint, sign_with=config.key_file
    )
    dropped = keep_newest(open_backups(config.backup, config.backup_endpoint), config.backup_keep)
    return {**_plain(told_of(moment)), "dropped": dropped}


def back_up_when_due() -> None:
    """Start a backup if the newest is older than the schedule says, and the last try is, too."""
    config = get_config()
    if not config.backup or not config.backup_hours:
        return
    newest = _newest()
    if newest is not None and is_recent(newest.made, timedelta(hours=config.backup_hours)):
        return
    tried = Job.objects.filter(kind=KIND).order_by("-pk").first()
    if tried is not None and (
        tried.state in (State.WAITING, State.RUNNING) or is_recent(tried.created, timedelta(hours=1))
    ):
        return
    person = User.objects.filter(is_staff=True, is_active=True).order_by("pk").first()
    if person is not None:
        start_job(Caller(person), KIND, None, {})


def _backups() -> tuple[Backups | None, str]:
    """The place of backups, or why it cannot be looked at; neither where none was made yet."""
    config = get_config()
    try:
        return (open_backups(config.backup, config.backup_endpoint), "") if config.backup else (None, "")
    except MissingError:
        return None, ""
    except EveryShelfError as error:
        return None, error.message


def _newest() -> Moment | None:
    """The newest moment that can be read."""
    backups, _ = _backups()
    for name in reversed(backups.names() if backups is not None else []):
        with contextlib.suppress(EveryShelfError):
            return backups.read(name) if backups is not None else None
    return None


def _plain(told: dict[str, Any]) -> dict[str, Any]:
    return {**told, "made": told["made"].isoformat()}
