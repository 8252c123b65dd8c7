"""What is known of an environment to which nothing was promoted yet: what was there when someone looked.

Without a deployment nothing says who changed what. What is there and on the shelf alike was changed by nobody; what is
there in an older version of the shelf's is waiting for a promotion; anything else was made there. What was there once
and is gone was removed there: a promotion must not bring it back unasked.
"""

from __future__ import annotations

from everyshelf.core.promotion.destination import Manifest, Placed
from everyshelf.service.environments.models import Environment
from everyshelf.service.log.models import LogEntry
from everyshelf.service.shelves.actions.lineage import lineage_of
from everyshelf.service.shelves.models import ArtifactVersion, Branch

_GONE = Placed("", 0)


def seen_there(environment: Environment) -> set[str]:
    """The artifacts that were there at the last look for drift, or when changes were captured."""
    found = {row["path"] for row in environment.drift or []}
    notes = LogEntry.objects.filter(
        shelf=environment.shelf.key, act="environment.captured", subject=environment.name
    ).values_list("detail", flat=True)
    for detail in notes:
        found.update(detail.get("paths", []))
    return found


def removed_there(environment: Environment, present: Manifest) -> Manifest:
    """What was there and is gone, in the form of a record; nothing once something was promoted."""
    return {path: _GONE for path in seen_there(environment) if path not in present}


def is_committed(branch: Branch, path: str, content: str) -> bool:
    """Whether a content of an artifact is a version in the line of a branch."""
    if branch.head_id is None:
        return False
    versions = ArtifactVersion.objects.filter(shelf_id=branch.shelf_id, path=path, content=content)
    line = lineage_of(branch.shelf).ancestors(branch.head_id)
    return any(commit in line for commit in versions.values_list("commit_id", flat=True))
