"""The jobs of environments."""

from __future__ import annotations

from typing import Any

from everyshelf.service.environments.actions.promotion import carry_out
from everyshelf.service.environments.models import Deployment
from everyshelf.service.jobs.actions import Run, job_kind


@job_kind("promote", resumes=False)
def promote(run: Run) -> dict[str, Any] | None:
    """Put a planned deployment in place. After a restart the journal decides, not this job."""
    rows = Deployment.objects.select_related("environment__shelf", "tag", "commit")
    return carry_out(rows.get(key=run.parameters["deployment"]), run)
