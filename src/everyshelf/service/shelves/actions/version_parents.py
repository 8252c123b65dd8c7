"""Which versions of an artifact a version was made of: those its commit found on each of its parents."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from everyshelf.service.base.context import get_trees
from everyshelf.service.shelves.actions.lineage import Lineage
from everyshelf.service.shelves.models import ArtifactVersion, Commit

_AT_ONCE = 20  # mostly the newest version is the one, and there may be thousands


def parents_of(version: ArtifactVersion, rows: list[ArtifactVersion], lineage: Lineage) -> list[ArtifactVersion]:
    """The versions that ``version`` was made of, the one on its own branch first; none for a first version.

    ``rows``: all versions of the artifact, newest first, removals too.
    """
    older = [row for row in rows if row.pk < version.pk]
    return _parents(version, older, lineage) if older else []


def parents_looked_up(version: ArtifactVersion, lineage: Lineage) -> list[ArtifactVersion]:
    """As ``parents_of``, each with its commit, where the versions of the artifact were not read: only some are."""
    return _parents(version, _OlderVersions(version), lineage)


def first_parent_of(version: ArtifactVersion, lineage: Lineage) -> ArtifactVersion | None:
    """The version that ``version`` was made of on its own branch; None for a first version."""
    parents = lineage.parents(version.commit_id)
    if not parents:
        return None
    return _current(Commit.objects.get(pk=parents[0]), _OlderVersions(version), lineage)


class _OlderVersions:
    """The versions of an artifact before one of them, newest first, read as they are asked for."""

    def __init__(self, version: ArtifactVersion) -> None:
        older = ArtifactVersion.objects.filter(artifact=version.artifact_id, pk__lt=version.pk)
        self._rows = older.order_by("-pk").select_related("commit")
        self._shelf = version.shelf

    def __iter__(self) -> Iterator[ArtifactVersion]:
        for row in self._rows.iterator(chunk_size=_AT_ONCE):
            row.shelf = self._shelf
            yield row


def _parents(version: ArtifactVersion, older: Iterable[ArtifactVersion], lineage: Lineage) -> list[ArtifactVersion]:
    parents = lineage.parents(version.commit_id)
    commits = {commit.pk: commit for commit in Commit.objects.filter(pk__in=parents)}
    found: list[ArtifactVersion] = []
    for parent in parents:
        row = _current(commits[parent], older, lineage)
        if row is not None and row not in found:
            found.append(row)
    return found


def _current(commit: Commit, older: Iterable[ArtifactVersion], lineage: Lineage) -> ArtifactVersion | None:
    """The version of the artifact at a commit; where it was removed there, the last one before that."""
    line, last = lineage.ancestors(commit.pk), None
    for row in older:
        if row.content and row.commit_id in line:
            if _holds(commit, row):
                return row
            last = last or row
    return last


def _holds(commit: Commit, row: ArtifactVersion) -> bool:
    entry = get_trees().find(commit.root, row.path)
    return entry is not None and entry.id == row.content
