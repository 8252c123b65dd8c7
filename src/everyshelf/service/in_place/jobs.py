"""The jobs of data in place."""

from __future__ import annotations

from typing import Any

from everyshelf.service.in_place.actions import checking, registering
from everyshelf.service.jobs.actions import Run, Sort, job_kind
from everyshelf.service.rights import Caller


@job_kind(registering.KIND, resumes=True)
def add(run: Run) -> dict[str, Any] | None:
    """Register what lies at an address; a run that was cut short finds what it had kept."""
    return registering.register(Caller(run.job.person), run.shelf, run.parameters, run.progress)


@job_kind(checking.KIND, resumes=True, sort=Sort.VERIFY)
def check(run: Run) -> dict[str, Any] | None:
    """Ask the places what they say of the data now, or read it."""
    return checking.check_in_place(run.shelf, run.parameters, run.progress)
