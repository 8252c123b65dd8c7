"""The versions a commit makes: which artifact is at which path, and the number its new version gets."""

from __future__ import annotations

import uuid
from collections import defaultdict
from collections.abc import Iterable

from django.db.models import Max, QuerySet

from everyshelf.core.history.names import tail_of
from everyshelf.core.history.trees import Change
from everyshelf.service.shelves.models import Artifact, ArtifactVersion, Commit, Shelf


def artifacts_before(shelf: Shelf, changes: list[Change], moved_from: dict[str, str]) -> dict[str, str]:
    """Artifact id by path for every changed path: the one known there, the one that moved there, or a new one.

    A path that comes back, or comes on another branch too, is the same artifact, unless that one has moved away.
    """
    sources = {c.path: moved_from.get(c.path, c.path) for c in changes}
    newest: dict[str, ArtifactVersion] = {}
    paths = list(set(sources.values()))
    for start in range(0, len(paths), 500):
        rows = ArtifactVersion.objects.filter(shelf=shelf, path__in=paths[start : start + 500])
        newest.update({row.path: row for row in _newest(rows, "path")})
    back = [c.path for c in changes if c.before is None and c.path not in moved_from and c.path in newest]
    elsewhere = _living_elsewhere([newest[path] for path in back])
    gone_away = set(moved_from.values())
    result = {}
    for change in changes:
        row = newest.get(sources[change.path])
        taken = change.path in elsewhere or (change.path in gone_away and change.after is not None)
        result[change.path] = uuid.uuid4().hex if row is None or taken else row.artifact.uid
    return result


def _newest(rows: QuerySet[ArtifactVersion], by: str) -> Iterable[ArtifactVersion]:
    """The newest of these versions for each value of a column, with its artifact."""
    keys = rows.order_by().values(by).annotate(newest=Max("id")).values_list("newest", flat=True)
    return ArtifactVersion.objects.filter(pk__in=list(keys)).select_related("artifact")


def _living_elsewhere(rows: list[ArtifactVersion]) -> set[str]:
    """The paths of those rows whose artifact has another path now."""
    last: dict[int, ArtifactVersion] = {}
    artifacts = [row.artifact_id for row in rows]
    for start in range(0, len(artifacts), 500):
        of_them = ArtifactVersion.objects.filter(artifact__in=artifacts[start : start + 500])
        last.update({row.artifact_id: row for row in _newest(of_them, "artifact")})
    return {row.path for row in rows if (now := last[row.artifact_id]).content and now.path != row.path}


def record_versions(
    shelf: Shelf,
    commit: Commit,
    changes: list[Change],
    kinds: dict[str, str],
    artifacts: dict[str, str],
    moved_from: dict[str, str],
    known: dict[str, str],
) -> None:
    """One row for each artifact the commit changed. What a merge takes from its other parent is one already."""
    left = set(moved_from.values())
    concerned = [c for c in changes if _is_new_here(c, known) and not (c.path in left and c.after is None)]
    rows = _existing({artifacts[c.path] for c in concerned})
    fresh = [Artifact(shelf=shelf, uid=uid) for uid in {artifacts[c.path] for c in concerned} - rows.keys()]
    known_before = list(rows.values())
    rows.update({artifact.uid: artifact for artifact in fresh})
    numbers = _next_numbers(rows, concerned, artifacts)
    Artifact.objects.bulk_create(fresh, batch_size=500)
    _save_numbers(known_before)
    versions = [
        ArtifactVersion(
            artifact_id=rows[artifacts[change.path]].pk,
            shelf_id=shelf.pk,
            commit_id=commit.pk,
            path=change.path,
            tail=tail_of(change.path),
            moved_from=moved_from.get(change.path, ""),
            number=numbers.get(change.path),
            content=change.after.id if change.after else "",
            size=change.after.size if change.after else 0,
            kind=kinds.get(change.path, ""),
        )
        for change in concerned
    ]
    ArtifactVersion.objects.bulk_create(versions, batch_size=500)


def _next_numbers(rows: dict[str, Artifact], changes: list[Change], artifacts: dict[str, str]) -> dict[str, int]:
    """Path -> the number of its new version; a removal has none."""
    numbers = {}
    for change in changes:
        if change.after is not None:
            artifact = rows[artifacts[change.path]]
            artifact.versions_made += 1
            numbers[change.path] = artifact.versions_made
    return numbers


def _save_numbers(artifacts: list[Artifact]) -> None:
    """Note how many versions they have now: one statement for all that have the same number of them."""
    by_count: dict[int, list[int]] = defaultdict(list)
    for artifact in artifacts:
        by_count[artifact.versions_made].append(artifact.pk)
    for count, keys in by_count.items():
        for start in range(0, len(keys), 500):
            Artifact.objects.filter(pk__in=keys[start : start + 500]).update(versions_made=count)


def _is_new_here(change: Change, known: dict[str, str]) -> bool:
    return change.after is None or known.get(change.path) != change.after.id


def _existing(uids: set[str]) -> dict[str, Artifact]:
    wanted, rows = list(uids), {}
    for start in range(0, len(wanted), 500):
        rows.update({a.uid: a for a in Artifact.objects.filter(uid__in=wanted[start : start + 500])})
    return rows
