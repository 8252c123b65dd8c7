"""Versions and commits as listings show them: read as rows, without a record object for each.

What a commit says never changes, so commits that were read are remembered. What a version says of its comparison
(effect, headline) comes later: versions are known from then on (``known_versions``).
"""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Iterable
from typing import Any

from django.db import connection
from django.db.models import F, Max, QuerySet, Value
from django.db.models.functions import Coalesce

from everyshelf.core.history.commit_sets import CommitSet
from everyshelf.service.shelves.actions.known_versions import known_versions
from everyshelf.service.shelves.actions.lineage import lineage_of
from everyshelf.service.shelves.actions.seen_shapes import SeenArtifact, SeenCommit, SeenVersion
from everyshelf.service.shelves.models import ArtifactVersion, Commit, Shelf

_MOST_REMEMBERED = 5_000
_AT_ONCE = 500
_COMMIT_FIELDS = ("pk", "uid", "root", "author", "time", "recorded", "summary", "description", "labels")
_VERSION_FIELDS = (
    *("pk", "artifact_id", "artifact__uid", "commit_id"),
    *("number", "path", "moved_from", "content", "size", "kind", "effect", "headline"),
)
_remembered: OrderedDict[int, SeenCommit] = OrderedDict()
_lock = threading.Lock()


def see_commits(keys: Iterable[int]) -> dict[int, SeenCommit]:
    """The commits of these record numbers, by number."""
    wanted = set(keys)
    with _lock:
        seen = {key: _remembered[key] for key in wanted if key in _remembered}
    missing = list(wanted - seen.keys())
    fresh: dict[int, SeenCommit] = {}
    for start in range(0, len(missing), _AT_ONCE):
        rows = Commit.objects.filter(pk__in=missing[start : start + _AT_ONCE]).values_list(*_COMMIT_FIELDS)
        fresh.update({row[0]: SeenCommit(*row) for row in rows})
    # What a transaction wrote may be taken back, and its record numbers given to something else.
    if fresh and not connection.in_atomic_block:
        with _lock:
            _remembered.update(fresh)
            while len(_remembered) > _MOST_REMEMBERED:
                _remembered.popitem(last=False)
    return seen | fresh


def see_versions(rows: QuerySet[ArtifactVersion]) -> list[SeenVersion]:
    """The versions of a query, in its order."""
    found = list(rows.values_list(*_VERSION_FIELDS))
    commits = see_commits(row[3] for row in found)
    return [_version(row, commits) for row in found]


def _version(row: tuple[Any, ...], commits: dict[int, SeenCommit]) -> SeenVersion:
    pk, artifact, uid, commit, *rest = row
    return SeenVersion(pk, artifact, SeenArtifact(uid), commit, commits[commit], *rest)


def versions_at(shelf: Shelf, commit: Commit | None, contents: dict[str, str]) -> dict[str, SeenVersion]:
    """The newest version of each path in the commit's line, for known contents of these paths."""
    if commit is None or not contents:
        return {}
    line = lineage_of(shelf).ancestors(commit.pk)
    until = known_versions.bring_up_to_date(shelf.pk)
    known = known_versions.versions(shelf.pk, until, contents)
    found = {path: version for path, version in known.items() if version.commit_id in line}
    paths = [path for path in contents if path not in found]
    for start in range(0, len(paths), _AT_ONCE):
        some = {path: contents[path] for path in paths[start : start + _AT_ONCE]}
        found.update(_newest(shelf, line, {path: held for path, held in some.items() if path not in known}, until))
        if left := {path: held for path, held in some.items() if path not in found}:
            found.update(_looked_up(shelf, line, left, until))
    return found


def _newest(shelf: Shelf, line: CommitSet, contents: dict[str, str], until: int) -> dict[str, SeenVersion]:
    """Those that are the newest of their paths: mostly they are the ones, and only else all versions of a path are
    read, which may be thousands."""
    last = ArtifactVersion.objects.filter(shelf=shelf, path__in=list(contents)).order_by().values("path")
    newest = last.annotate(newest=Max("id")).values_list("newest", flat=True)
    rows = ArtifactVersion.objects.filter(pk__in=list(newest)).values_list(*_VERSION_FIELDS)
    meant = _kept(shelf, until, [row for row in rows if row[7] == contents[row[5]]])
    return {path: version for path, version in meant.items() if version.commit_id in line}


def _kept(shelf: Shelf, until: int, rows: list[tuple[Any, ...]]) -> dict[str, SeenVersion]:
    """Versions that are the newest of their path and content, by path. Those are kept which say already what their
    commit did; what the others will say comes later."""
    commits = see_commits(row[3] for row in rows)
    versions = {row[5]: _version(row, commits) for row in rows}
    known_versions.keep_versions(shelf.pk, until, [one for one in versions.values() if one.headline])
    return versions


def _looked_up(shelf: Shelf, line: CommitSet, contents: dict[str, str], until: int) -> dict[str, SeenVersion]:
    """The same, found among all versions of these paths."""
    rows = ArtifactVersion.objects.filter(shelf=shelf, path__in=list(contents))
    # Found by their paths: one content may be that of a hundred thousand artifacts.
    rows = rows.alias(held=Coalesce(F("content"), Value(""))).filter(held__in=set(contents.values()))
    found: dict[str, tuple[Any, ...]] = {}
    newest: dict[str, tuple[Any, ...]] = {}  # in any line
    for row in rows.values_list(*_VERSION_FIELDS):  # sorting them would make SQLite walk the whole shelf
        path = row[5]
        if row[7] != contents[path]:
            continue
        if path not in newest or newest[path][0] < row[0]:
            newest[path] = row
        if row[3] in line and (path not in found or found[path][0] < row[0]):
            found[path] = row
    _kept(shelf, until, list(newest.values()))
    commits = see_commits(row[3] for row in found.values())
    return {path: _version(row, commits) for path, row in found.items()}
