"""What the worker clears away on its own."""

from __future__ import annotations

from everyshelf.service.idempotency.actions import prune_answers
from everyshelf.service.jobs.actions import periodic


@periodic(seconds=60)
def forget_old_answers() -> None:
    """Remove kept answers nobody can ask for any more."""
    prune_answers()
