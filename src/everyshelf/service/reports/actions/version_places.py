"""A version of an artifact and everything that has it."""

from __future__ import annotations

from everyshelf.core.answers.commits import NearVersion, VersionPlaces, VersionThere
from everyshelf.core.errors import MissingError
from everyshelf.service.base.context import get_trees
from everyshelf.service.environments.actions.environments import list_environments
from everyshelf.service.environments.actions.manifests import last_deployment, recorded
from everyshelf.service.reports.actions.commit_places import places_of
from everyshelf.service.shelves.actions.lineage import Lineage, lineage_of
from everyshelf.service.shelves.actions.listing import find_version, get_artifact
from everyshelf.service.shelves.actions.refs import Resolved
from everyshelf.service.shelves.actions.seen import versions_at
from everyshelf.service.shelves.actions.version_parents import parents_of
from everyshelf.service.shelves.models import ArtifactVersion, Commit, Shelf

_MOST_TAGS = 100
_MOST_LATER = 200  # versions after it that are looked at for what was made of it


def version_places(shelf: Shelf, at: Resolved, path: str, number: int | None) -> VersionPlaces:
    """Everything that has version ``number`` of the artifact that is at ``path`` in a state; None: the version there.

    Raises ``MissingError``.
    """
    version = find_version(shelf, at, path, number if number is not None else _number_at(shelf, at, path))
    rows = list(
        ArtifactVersion.objects.filter(artifact=version.artifact).select_related("commit", "artifact").order_by("-pk")
    )
    lineage = lineage_of(shelf)
    commit = version.commit
    return VersionPlaces(
        artifact=version.artifact.uid,
        path=version.path,
        moved_from=version.moved_from,
        version=version.number or 0,
        versions=max(row.number or 0 for row in rows),
        kind=version.kind,
        size=version.size,
        content=version.content,
        effect=version.effect,
        headline=version.headline,
        author=commit.author,
        recorded=commit.recorded,
        summary=commit.summary,
        description=commit.description,
        labels=commit.labels,
        before=[_near(row, merged=k > 0) for k, row in enumerate(parents_of(version, rows, lineage)) if row.number],
        next=_next(version, rows, lineage),
        branches=[
            b.name for b in shelf.branches.select_related("head").order_by("name") if _has(b.head, version, rows)
        ],
        tags=[
            t.name
            for t in shelf.tags.select_related("commit").order_by("-pk")[:_MOST_TAGS]
            if _has(t.commit, version, rows)
        ],
        environments=_environments(shelf, version, rows),
        made_by=places_of(shelf, commit),
    )


def _number_at(shelf: Shelf, at: Resolved, path: str) -> int:
    _, version = get_artifact(shelf, at, path)
    if version is None or version.number is None:
        raise MissingError(f"{path} has no version in {at.ref} yet", code="version.missing", hint="Commit it first.")
    return version.number


def _near(row: ArtifactVersion, *, merged: bool) -> NearVersion:
    return NearVersion(
        version=row.number or 0,
        commit=row.commit.uid,
        summary=row.commit.summary,
        author=row.commit.author,
        recorded=row.commit.recorded,
        effect=row.effect,
        headline=row.headline,
        merged=merged,
    )


def _next(version: ArtifactVersion, rows: list[ArtifactVersion], lineage: Lineage) -> list[NearVersion]:
    later = [row for row in reversed(rows) if row.pk > version.pk and row.number][:_MOST_LATER]
    found = []
    for row in later:
        made_of = parents_of(row, rows, lineage)
        if version in made_of:
            found.append(_near(row, merged=made_of.index(version) > 0))
    return found


def _has(commit: Commit | None, version: ArtifactVersion, rows: list[ArtifactVersion]) -> bool:
    """Whether a state holds exactly this version, under whichever path."""
    if commit is None:
        return False
    trees = get_trees()
    for path in {row.path for row in rows}:
        entry = trees.find(commit.root, path)
        if entry is not None and entry.id == version.content:
            there = versions_at(version.shelf, commit, {path: entry.id}).get(path)
            if there is not None and there.pk == version.pk:
                return True
    return False


def _environments(shelf: Shelf, version: ArtifactVersion, rows: list[ArtifactVersion]) -> list[VersionThere]:
    paths = {row.path for row in rows}
    found = []
    for environment in list_environments(shelf):
        there = recorded(environment)
        sources = {there[path].source for path in paths if path in there and there[path].source}
        last = last_deployment(environment)
        number = _number_of(sources, rows, last.commit if last is not None else None)
        tag = last.tag.name if last is not None and last.tag is not None else ""
        since = last.ended if last is not None else None
        this = number == version.number
        found.append(VersionThere(environment=environment.name, version=number, this=this, tag=tag, since=since))
    return found


def _number_of(sources: set[str], rows: list[ArtifactVersion], commit: Commit | None) -> int | None:
    """The version an environment has: of several with that content the one in the state that was put there."""
    same = [row for row in rows if row.content in sources and row.number]
    if len(same) > 1 and commit is not None:
        seen = versions_at(commit.shelf, commit, {row.path: row.content for row in same})
        numbers = [one.number for one in seen.values() if one.number is not None]
        if numbers:
            return max(numbers)
    return same[0].number if same else None
