"""The job of uses: reading what the artifacts of a state name."""

from __future__ import annotations

from typing import Any

from everyshelf.service.jobs.actions import Run, job_kind
from everyshelf.service.shelves.models import Commit
from everyshelf.service.uses.actions.reading import read_state


@job_kind("uses", resumes=True)
def uses(run: Run) -> dict[str, Any] | None:
    """Read what every artifact of a commit names; who asks again finds it in the records."""
    commit = Commit.objects.get(uid=run.parameters["commit"], shelf=run.shelf)
    read_state(run.shelf, commit, commit.root, tell=run.progress)
    return {"commit": commit.uid}
