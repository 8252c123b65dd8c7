"""The jobs of environments, and what is looked at on a schedule."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import structlog

from everyshelf.core.errors import EveryShelfError
from everyshelf.service.base.clock import is_recent
from everyshelf.service.environments.actions.promotion import ask_about_unsettled, carry_out
from everyshelf.service.environments.actions.reality import check_drift
from everyshelf.service.environments.actions.trials import end_expired
from everyshelf.service.environments.models import Deployment, Environment
from everyshelf.service.jobs.actions import Run, Sort, job_kind, periodic

log = structlog.get_logger("everyshelf.environments")


@job_kind("promote", resumes=False, sort=Sort.SHORT)
def promote(run: Run) -> dict[str, Any] | None:
    """Put a planned deployment in place. After a restart the journal decides, not this job."""
    rows = Deployment.objects.select_related("environment__shelf", "tag", "commit", "rolled_back_to")
    return carry_out(rows.get(key=run.parameters["deployment"]), run)


@periodic(seconds=10)
def look_after_environments() -> None:
    """Ask about switches that are not settled, end trial environments whose time is over, look for drift."""
    ask_about_unsettled()
    end_expired()
    for environment in Environment.objects.filter(ended=None, watch_minutes__gt=0).select_related("shelf"):
        if not is_recent(environment.drift_checked, timedelta(minutes=environment.watch_minutes)):
            try:
                check_drift(environment)
            except EveryShelfError as error:
                log.warning("drift could not be looked for", environment=environment.name, why=error.message)
