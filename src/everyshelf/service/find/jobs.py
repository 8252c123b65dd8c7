"""The job of finding: reading what is unread of a shelf."""

from __future__ import annotations

from typing import Any

from everyshelf.service.find.actions.reading import read_all
from everyshelf.service.jobs.actions import Run, job_kind


@job_kind("find", resumes=True)
def find(run: Run) -> dict[str, Any] | None:
    """Read the words of all versions at the heads of branches, or of all there are."""
    return {"versions": read_all(run.shelf, run.progress, history=run.parameters["history"])}
