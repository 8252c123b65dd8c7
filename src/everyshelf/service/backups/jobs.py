"""The job of a backup, and its schedule."""

from __future__ import annotations

from typing import Any

from everyshelf.service.backups.actions import KIND, back_up, back_up_when_due
from everyshelf.service.jobs.actions import Run, job_kind, periodic


@job_kind(KIND, resumes=True)
def backup(run: Run) -> dict[str, Any] | None:
    """Back the installation up; what one that was cut short had copied is not copied again."""
    return back_up(run.progress)


@periodic(seconds=60)
def follow_the_schedule() -> None:
    """Back up when it is time."""
    back_up_when_due()
