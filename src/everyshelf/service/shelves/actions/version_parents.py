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


def first_parent_of(version: ArtifactVersion, lineage: Lineage) -> ArtifactVersion | None:
    """The version that ``version`` was made of on its own branch; None for a first version."""
    parents = lineage.parents(version.commit_id)
    older = ArtifactVersion.objects.filter(artifact=version.artifact_id, pk__lt=version.pk).order_by("-pk")
    newest = older.first()
    if newest is None or not parents:
        return None
    commit = Commit.objects.get(pk=parents[0])
    # Mostly it is the newest one there is: only else are all of them read.
    if newest.content and newest.commit_id in lineage.ancestors(commit.pk) and _holds(commit, newest):
        return newest
    return _current(commit, list(older), lineage)


def _holds(commit: Commit, row: ArtifactVersion) -> bool:
    entry = get_trees().find(commit.root, row.path)
    return entry is not None and entry.id == row.content


def _current(commit: Commit, rows: list[ArtifactVersion], lineage: Lineage) -> ArtifactVersion | None:
    """The version of the artifact at a commit; where it was removed there, the last one before that."""
    if rows[0].commit_id == commit.pk and rows[0].content:
        return rows[0]
    line = lineage.ancestors(commit.pk)
    held = [row for row in rows if row.content and row.commit_id in line]
    return next((row for row in held if _holds(commit, row)), held[0] if held else None)
