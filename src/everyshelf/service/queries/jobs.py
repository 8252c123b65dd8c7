"""The job of a query that takes long."""

from __future__ import annotations

from typing import Any

from everyshelf.service.jobs.actions import Run, Sort, job_kind
from everyshelf.service.queries.kept import KIND, keep_answer
from everyshelf.service.rights import Caller


@job_kind(KIND, resumes=True, sort=Sort.QUERY)
def query(run: Run) -> dict[str, Any] | None:
    """Run a query and keep its answer; who asks again finds it."""
    given = run.parameters
    caller = Caller(run.job.person)
    size = keep_answer(caller, run.shelf, given["sql"], given["ref"], lambda: run.progress(0, 1, "query"))
    return {"bytes": size}
