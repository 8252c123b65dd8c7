"""The job of findings: comparing each version of a shelf with the one it was made from."""

from __future__ import annotations

from typing import Any

from everyshelf.service.findings.keeping import keep_findings
from everyshelf.service.jobs.actions import Run, job_kind


@job_kind("findings", resumes=True)
def findings(run: Run) -> dict[str, Any] | None:
    """Compare what is not compared yet; who asks again finds it in the records."""
    keep_findings(run.shelf, tell=run.progress)
    return {}
