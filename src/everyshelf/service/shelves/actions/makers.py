"""Who made what differs between two states, and why: the commits between them, by artifact."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence

from everyshelf.core.answers.states import CommitLine, ComparedArtifact
from everyshelf.service.base.context import get_trees
from everyshelf.service.shelves.actions.lineage import lineage_of
from everyshelf.service.shelves.actions.refs import Resolved
from everyshelf.service.shelves.actions.seen import see_commits, versions_at
from everyshelf.service.shelves.actions.seen_shapes import SeenCommit
from everyshelf.service.shelves.models import ArtifactVersion, Shelf

_MOST_OF_ONE = 50
_AT_ONCE = 500


def made_between(
    shelf: Shelf, before: Resolved, after: Resolved, artifacts: Sequence[ComparedArtifact]
) -> dict[str, list[CommitLine]]:
    """By path of each artifact, the commits that touched it after ``before``, newest first."""
    if after.commit is None:
        return {}
    lineage = lineage_of(shelf)
    line = lineage.ancestors(after.commit.pk)
    line = line - lineage.ancestors(before.commit.pk) if before.commit is not None else line
    paths = {number: path for path, number in _artifacts(shelf, before, after, artifacts).items()}
    found: dict[str, list[tuple[int, int | None]]] = defaultdict(list)
    numbers = list(paths)
    for start in range(0, len(numbers), _AT_ONCE):
        rows = ArtifactVersion.objects.filter(artifact__in=numbers[start : start + _AT_ONCE]).order_by("-pk")
        for artifact, commit, number in rows.values_list("artifact", "commit", "number"):
            if commit in line and len(found[paths[artifact]]) < _MOST_OF_ONE:
                found[paths[artifact]].append((commit, number))
    commits = see_commits(commit for rows_of_one in found.values() for commit, _ in rows_of_one)
    return {path: [_line(commits[c], number) for c, number in rows_of_one] for path, rows_of_one in found.items()}


def _artifacts(
    shelf: Shelf, before: Resolved, after: Resolved, artifacts: Sequence[ComparedArtifact]
) -> dict[str, int]:
    """The record number of each artifact, by its path in the newer state, or in the older where it is gone."""
    trees, numbers = get_trees(), dict[str, int]()
    for state, name in ((before, "old_path"), (after, "path")):
        entries = {getattr(one, name): trees.find(state.root, getattr(one, name)) for one in artifacts}
        held = {path: entry.id for path, entry in entries.items() if entry is not None}
        at = {path: version.artifact_id for path, version in versions_at(shelf, state.commit, held).items()}
        numbers |= {one.path: at[getattr(one, name)] for one in artifacts if getattr(one, name) in at}
    return numbers


def _line(commit: SeenCommit, number: int | None) -> CommitLine:
    return CommitLine(
        commit=commit.uid,
        version=number,
        author=commit.author,
        recorded=commit.recorded,
        summary=commit.summary,
    )
