"""What is done about drafts every so often."""

from __future__ import annotations

from everyshelf.service.drafts.keeping import remove_old
from everyshelf.service.jobs.actions import periodic


@periodic(seconds=3600)
def remove_old_points() -> None:
    """Remove what the rules of shelves say is kept no longer."""
    remove_old()
