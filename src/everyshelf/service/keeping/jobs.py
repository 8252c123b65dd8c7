"""The job of tidying, and when it runs by itself."""

from __future__ import annotations

from typing import Any

from everyshelf.service.base.context import get_place, get_store
from everyshelf.service.jobs.actions import Run, job_kind, periodic
from everyshelf.service.keeping import homes, shelf_stores
from everyshelf.service.keeping.actions import KIND, tidy_when_due
from everyshelf.service.keeping.tidying import tidy


@job_kind(KIND, resumes=True)
def tidy_store(run: Run) -> dict[str, Any] | None:
    """Tidy the store; what a run that was cut short had done is not done again."""
    return tidy(get_store(), run.progress, run.give_way, asked=bool(run.parameters.get("asked")))


@job_kind(homes.KIND, resumes=True)
def move_segments(run: Run) -> dict[str, Any] | None:
    """Move the store's segments to where they are to live; a run that was cut short goes on from there."""
    return homes.move_store(get_place(), run.parameters, run.progress)


@job_kind(shelf_stores.KIND, resumes=True)
def move_shelf_bytes(run: Run) -> dict[str, Any] | None:
    """Copy the bytes of a shelf into its store; what a run that was cut short had copied is not copied again."""
    run.shelf.refresh_from_db(fields=["store"])
    return shelf_stores.move_shelf(get_store(), run.shelf, run.progress)


@periodic(seconds=30)
def move_in_time() -> None:
    """Move what was sealed since, and seal what this process holds open."""
    get_store().segments.seal_if_asked()
    homes.move_when_due()


@periodic(seconds=60)
def tidy_in_time() -> None:
    """Tidy when it is time."""
    tidy_when_due()
