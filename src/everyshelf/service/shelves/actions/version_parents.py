"""Which versions of an artifact a version was made of: those its commit found on each of its parents."""

from __future__ import annotations

from everyshelf.service.base.context import get_trees
from everyshelf.service.shelves.actions.lineage import Lineage
from everyshelf.service.shelves.models import ArtifactVersion, Commit


def parents_of(version: ArtifactVersion, rows: list[ArtifactVersion], lineage: Lineage) -> list[ArtifactVersion]:
    """The versions that ``version`` was made of, the one on its own branch first; none for a first version.

    ``rows``: all versions of the artifact, newest first, removals too.
    """
    older = [row for row in rows if row.pk < version.pk]
    commits = {c.pk: c for c in Commit.objects.filter(pk__in=lineage.parents(version.commit_id))} if older else {}
    found: list[ArtifactVersion] = []
    for parent in lineage.parents(version.commit_id):
        row = _current(commits[parent], older, lineage) if older else None
        if row is not None and row not in found:
            found.append(row)
    return found


def _current(commit: Commit, rows: list[ArtifactVersion], lineage: Lineage) -> ArtifactVersion | None:
    """The version of the artifact at a commit; where it was removed there, the last one before that."""
    if rows[0].commit_id == commit.pk and rows[0].content:
        return rows[0]
    line = lineage.ancestors(commit.pk)
    held = [row for row in rows if row.content and row.commit_id in line]
    trees = get_trees()
    for row in held:
        entry = trees.find(commit.root, row.path)
        if entry is not None and entry.id == row.content:
            return row
    return held[0] if held else None
