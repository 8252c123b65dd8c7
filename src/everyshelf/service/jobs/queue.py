"""The queue that wakes the worker: huey over a SQLite file of its own. Losing it loses nothing."""

from __future__ import annotations

from typing import Any

from huey import SqliteHuey

from everyshelf.service.config import get_config

huey = SqliteHuey("every-shelf", filename=str(get_config().queue), results=False, journal_mode="wal", timeout=20)


@huey.task()  # type: ignore[untyped-decorator]
def run_job(uid: str) -> Any:
    """Run the job of that id, if it still waits."""
    from everyshelf.service.jobs.actions import run_now

    run_now(uid)
