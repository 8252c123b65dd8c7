"""What lies on a shelf at a ref, with the version, commit and person of each artifact."""

from __future__ import annotations

import itertools
from collections.abc import Iterable
from typing import Any

from everyshelf.core.errors import MissingError
from everyshelf.core.history.commit_sets import CommitSet
from everyshelf.core.history.names import did_you_mean, file_name, nearest_paths
from everyshelf.core.history.paths import check_path
from everyshelf.core.history.trees import Entry
from everyshelf.service.base.context import get_trees
from everyshelf.service.base.paging import as_page, decode_cursor, encode_cursor, newest_first
from everyshelf.service.shelves.actions.lineage import Lineage, lineage_of
from everyshelf.service.shelves.actions.outside import outside_address, told_outside
from everyshelf.service.shelves.actions.pages import pages
from everyshelf.service.shelves.actions.recognising import kinds_of
from everyshelf.service.shelves.actions.recording import rules_at
from everyshelf.service.shelves.actions.refs import Resolved
from everyshelf.service.shelves.actions.seen import see_versions, versions_at
from everyshelf.service.shelves.actions.seen_shapes import SeenVersion
from everyshelf.service.shelves.actions.short_names import short_names
from everyshelf.service.shelves.models import ArtifactVersion, Commit, Shelf

MAX_PAGE = 5000
_SHOWN_OF_COMMIT = 20


def list_artifacts(
    shelf: Shelf, at: Resolved, *, folder: str = "", limit: int = 500, cursor: str = "", files: bool = False
) -> dict[str, Any]:
    """One page of the artifacts at a ref, by path; ``next`` is the cursor of the page after it, or None.

    ``files``: with each file of the folders that are kept whole, instead of the folders. Only the folder that is asked
    for is walked, and of it only the page.
    """
    trees = get_trees()
    node, prefix = _node_of(at.root, folder, files=files)
    total = trees.count_files(node) if files else trees.count(node)
    start, limit = decode_cursor(cursor), min(limit, MAX_PAGE)

    def make() -> list[dict[str, Any]]:
        rows = itertools.islice(trees.page(node, prefix, start=start, files=files), limit)
        return describe(shelf, at, rows, files=files)

    key = (shelf.pk, at.commit.uid if at.commit else None, at.root, prefix, node, start, limit, files)
    items = pages.get(key, make)
    after = min(start + limit, total)
    return {"items": items, "total": total, "next": encode_cursor(after) if after < total else None}


def _node_of(root: str, folder: str, *, files: bool) -> tuple[str, str]:
    """The node of a folder and the beginning of the paths in it; that of an empty folder where it is not there."""
    if not folder:
        return root, ""
    trees, path = get_trees(), check_path(folder.rstrip("/"))
    entry = trees.find(root, path)
    within = entry is not None and (entry.type == "whole" or trees.whole_above(root, path) is not None)
    if entry is None or entry.type == "artifact" or (within and not files):
        return trees.empty, ""
    return entry.id, f"{path}/"


def describe(
    shelf: Shelf, at: Resolved, rows: Iterable[tuple[str, Entry]], *, files: bool = False
) -> list[dict[str, Any]]:
    """The public form of entries at a ref; ``files``: some may lie in folders kept whole."""
    commit, rows = at.commit, list(rows)
    above = _wholes_above(commit, rows) if files else {}
    own = {path: entry.id for path, entry in rows if path not in above}
    own.update({path: entry.id for path, entry in above.values()})
    versions = versions_at(shelf, commit, own)
    names = short_names(shelf, at.root, own, versions)
    told = []
    for path, entry in rows:
        within = above[path][0] if path in above else ""
        version = versions.get(within or path)
        one = artifact_json(path, entry.id, entry.size, version, whole=entry.type == "whole", within=within)
        one["name"] = names[within] + path.removeprefix(within) if within else names[path]
        told.append(one)
    for one, address in told_outside(told):
        one["in_place"] = address
    return _with_kinds(commit, told, dict(rows))


def _with_kinds(commit: Commit | None, told: list[dict[str, Any]], entries: dict[str, Entry]) -> list[dict[str, Any]]:
    """Artifacts with their kinds, also of those that are only in a draft and have no version yet."""
    fresh = {one["path"]: entries[one["path"]] for one in told if one["version"] is None and not one["within"]}
    kinds = kinds_of(fresh, rules_at(commit.root if commit else get_trees().empty)) if fresh else {}
    return [{**one, "kind": kinds.get(one["path"], one["kind"])} for one in told]


def _wholes_above(commit: Commit | None, rows: Iterable[tuple[str, Entry]]) -> dict[str, tuple[str, Entry]]:
    """For each path that lies in a folder kept whole, that folder."""
    if commit is None:
        return {}
    trees = get_trees()
    folders = {path.rpartition("/")[0]: path for path, _ in rows}
    by_folder = {folder: trees.whole_above(commit.root, path) for folder, path in folders.items() if folder}
    return {path: found for path, _ in rows if (found := by_folder.get(path.rpartition("/")[0]))}


def artifact_json(
    path: str,
    content: str,
    size: int,
    version: ArtifactVersion | SeenVersion | None,
    *,
    whole: bool = False,
    within: str = "",
) -> dict[str, Any]:
    """One artifact at one moment. ``whole``: a folder of which it is made; ``within``: the one in which a file lies."""
    commit = version.commit if version else None
    return {
        "path": path,
        "name": file_name(path),
        "artifact": version.artifact.uid if version else None,
        "version": version.number if version else None,
        "kind": version.kind if version else "opaque",
        "content": content,
        "size": size,
        "commit": commit.uid if commit else None,
        "summary": commit.summary if commit else "",
        "author": commit.author if commit else "",
        "recorded": commit.recorded if commit else None,
        "effect": version.effect if version else "",
        "headline": version.headline if version else "",
        "whole": whole,
        "within": within,
        "in_place": "",
    }


def describe_one(
    at: Resolved, path: str, entry: Entry, version: ArtifactVersion | SeenVersion | None, within: str = ""
) -> dict[str, Any]:
    """The public form of one artifact that was found at a ref; ``within``: the folder kept whole in which it lies."""
    told = artifact_json(path, entry.id, entry.size, version, whole=entry.type == "whole", within=within)
    return {**_with_kinds(at.commit, [told], {path: entry})[0], "in_place": outside_address(entry.id)}


def get_artifact(shelf: Shelf, at: Resolved, path: str) -> tuple[Entry, SeenVersion | None]:
    """The entry at ``path`` and its version; raises ``MissingError``."""
    trees = get_trees()
    entry = trees.find(at.root, check_path(path))
    if entry is None or entry.type == "folder":
        meant = did_you_mean(nearest_paths(path, [one for one, _ in trees.files(at.root)]))
        raise MissingError(f"{path} is not in {at.ref}", code="artifact.missing", hint=f"{meant}See everyshelf browse.")
    above = trees.whole_above(at.root, path)
    if above is not None:
        return entry, versions_at(shelf, at.commit, {above[0]: above[1].id}).get(above[0])
    return entry, versions_at(shelf, at.commit, {path: entry.id}).get(path)


def within(at: Resolved, path: str) -> str:
    """The folder kept whole in which a path lies, or an empty text."""
    above = get_trees().whole_above(at.root, path)
    return above[0] if above is not None else ""


def entry_of(version: ArtifactVersion | SeenVersion) -> Entry:
    """What a version was made of, under its path then."""
    entry = get_trees().find(version.commit.root, version.path)
    return Entry(version.path, entry.type if entry is not None else "artifact", version.content, version.size)


def find_version(shelf: Shelf, at: Resolved, path: str, number: int) -> ArtifactVersion:
    """Version ``number`` of the artifact that is at ``path`` now, wherever it was then."""
    _, current = get_artifact(shelf, at, path)
    found = None
    if current is not None:
        rows = ArtifactVersion.objects.filter(artifact_id=current.artifact_id, number=number)
        found = rows.select_related("commit", "artifact").first()
    if found is None:
        raise MissingError(
            f"{path} has no version {number}", code="version.missing", hint=f'List them: everyshelf history "{path}"'
        )
    return found


def artifact_history(shelf: Shelf, at: Resolved, path: str, *, limit: int = 100, cursor: str = "") -> dict[str, Any]:
    """A page of the versions of the artifact at ``path``, newest first; ``here`` tells those in the line of the ref."""
    entry, current = get_artifact(shelf, at, path)
    rows = ArtifactVersion.objects.filter(artifact_id=current.artifact_id if current is not None else 0).only("pk")
    page = newest_first(rows, limit=min(limit, MAX_PAGE), cursor=cursor)
    shown = [one.pk for one in page.records]
    key = ("history", tuple(shown), at.commit.uid if at.commit else None, entry.type)
    return as_page(page, pages.get(key, lambda: _history(shelf, at, entry, shown)))


def _history(shelf: Shelf, at: Resolved, entry: Entry, keys: list[int]) -> list[dict[str, Any]]:
    line = lineage_of(shelf).ancestors(at.commit.pk) if at.commit else CommitSet()
    rows = see_versions(ArtifactVersion.objects.filter(pk__in=keys).order_by("-pk"))
    told = [
        {
            **artifact_json(r.path, r.content, r.size, r, whole=entry.type == "whole"),
            "moved_from": r.moved_from,
            "here": r.commit_id in line,
            "removed": not r.content,
            "description": r.commit.description,
            "labels": r.commit.labels,
        }
        for r in rows
    ]
    for one, address in told_outside(told):
        one["in_place"] = address
    return told


def commit_json(commit: Commit, lineage: Lineage | None = None) -> dict[str, Any]:
    """A commit's public form; with a lineage its parents are left to the caller, which costs no query."""
    parents = [] if lineage else list(commit.parent_links.order_by("position").values_list("parent__uid", flat=True))
    return {
        "commit": commit.uid,
        "author": commit.author,
        "time": commit.time,
        "recorded": commit.recorded,
        "summary": commit.summary,
        "description": commit.description,
        "labels": commit.labels,
        "tasks": commit.tasks,
        "parents": parents,
        "merge": len(lineage.parents(commit.pk)) > 1 if lineage else len(parents) > 1,
    }
