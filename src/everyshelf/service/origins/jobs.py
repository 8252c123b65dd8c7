"""The job of origins: steps of many versions, for whoever asked first."""

from __future__ import annotations

from typing import Any

from everyshelf.service.jobs.actions import Run, job_kind
from everyshelf.service.origins.actions.folding import Steps
from everyshelf.service.origins.actions.keeping import make_steps, versions_of
from everyshelf.service.shelves.models import ArtifactVersion


@job_kind("origins", resumes=True)
def origins(run: Run) -> dict[str, Any] | None:
    """Work out what each version that one comes from carried over; who asks again finds it in the records."""
    version = ArtifactVersion.objects.get(pk=run.parameters["version"], shelf=run.shelf)
    form, versions = run.parameters["form"], versions_of(version)
    made = 0
    while True:
        _, missing = Steps[Any]((row.pk for row in versions), form).line(version.pk)
        if not missing:
            return {"versions": made}
        make_steps(run.shelf, versions, missing, form, run.progress)
        made += len(missing)
