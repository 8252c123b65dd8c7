"""Re-reading everything a shelf consists of, contents and records, and naming what does not match."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

import orjson
from django.db import DatabaseError, connection
from django.db.models import Count, Max

from everyshelf.core.content.stores import current_store
from everyshelf.core.errors import BrokenError, EveryShelfError, MissingError
from everyshelf.core.history.commits import decode_commit
from everyshelf.service.base.config import get_config
from everyshelf.service.base.context import get_store, get_trees
from everyshelf.service.base.spreading import in_batches, spread_out
from everyshelf.service.shelves.models import ArtifactVersion, Commit, CommitParent, Merge, Shelf, ShelfContent
from everyshelf.storage.checking import Checked, StoreAt, check_contents, check_in

_MOST_TOLD = 1000
_MOST_VERSIONS_NAMED = 5

# What other capabilities have on a shelf, checked by them: each gives a line for what does not match.
Check = Callable[[Shelf], Iterator[str]]
_checks: list[Check] = []


def register_check(check: Check) -> None:
    """Let ``verify`` look at records of a capability above shelves."""
    _checks.append(check)


def verify_shelf(shelf: Shelf, progress: Callable[[int, int, str], None]) -> dict[str, Any]:
    """Check the records' own integrity, the chain of commits against the records, every folder node, every content, and
    what versions, tags, merges, drafts and deployments refer to.

    Returns counts and ``problems``: one line for each thing that does not match, the damaged ranges of the store
    included. Of data in place only the notes are read; whether it is still there is a question of its own.
    """
    problems = _Problems()
    problems.extend(_records())
    problems.extend(f"{place} (of any shelf)" for place in get_store().segments.damage())
    commits: list[Commit] = []
    parents: dict[int, list[str]] = {}
    contents: dict[str, int] = {}
    with problems.of("the commits"):
        commits = list(Commit.objects.filter(shelf=shelf).order_by("pk"))
        parents = _parents(shelf)
    with problems.of("the list of contents"):
        contents = dict(ShelfContent.objects.filter(shelf=shelf).values_list("content", "size"))
    total = len(commits) + len(contents)
    seen_nodes: set[str] = set()
    for done, commit in enumerate(commits):
        progress(done, total, commit.summary)
        with problems.of(f"commit {commit.uid[:8]}"):
            problems.extend(_check_commit(commit, parents.get(commit.pk, [])))
            problems.extend(_check_tree(commit, seen_nodes, contents))
    outside = 0
    for checked in _checked(contents, lambda done: progress(len(commits) + done, total, "contents")):
        outside += checked.outside
        for identity, wrong in checked.wrong.items():
            harmed = ""
            with problems.of("the versions"):
                harmed = _harmed(shelf, identity)
            problems.add(f"{wrong}{harmed}")
    with problems.of("the versions"):
        problems.extend(_check_versions(shelf, contents))
    with problems.of("branches, tags and merges"):
        problems.extend(_check_names(shelf))
    for check in _checks:
        with problems.of("drafts and deployments"):
            problems.extend(check(shelf))
    return {
        "commits": len(commits),
        "contents": len(contents),
        "nodes": len(seen_nodes),
        "in_place": outside,
        "problems": problems.lines,
        "more": problems.more,
    }


def _checked(contents: dict[str, int], tell: Callable[[int], None]) -> Iterator[Checked]:
    """All contents compared with their ids, batch by batch; by several processes where they are many."""
    config, done = get_config(), 0
    batches = in_batches(contents, lambda identity: contents[identity])
    at = StoreAt(str(config.data), config.store_cache_bytes, current_store())
    parts = spread_out(
        check_contents,
        [(at, batch) for batch in batches],
        lambda at_work: tell(done + at_work),
        needs="the data folder",
        here=lambda _, batch, told: check_in(get_store(), batch, told),
    )
    with contextlib.closing(parts):
        for place, found in parts:
            done += len(batches[place])
            tell(done)
            # What another process found wrong is looked at here before it is told: it may be wrong with that process.
            sure = {identity: wrong for identity in found.wrong if (wrong := get_store().verify(identity)) is not None}
            yield Checked(sure, found.outside)


class _Problems:
    """Lines, up to a bound; the rest is counted."""

    def __init__(self) -> None:
        self.lines: list[str] = []
        self.more = 0

    def add(self, line: str) -> None:
        if len(self.lines) < _MOST_TOLD:
            self.lines.append(line)
        else:
            self.more += 1

    def extend(self, lines: Any) -> None:
        for line in lines:
            self.add(line)

    @contextmanager
    def of(self, what: str) -> Iterator[None]:
        """Records that cannot be read, or make no sense, are a problem of ``what``; the rest is still checked."""
        try:
            yield
        except (DatabaseError, EveryShelfError, ValueError, TypeError, LookupError) as error:
            self.add(f"records: {what} cannot be read: {error}")


def _records() -> Iterator[str]:
    """SQLite's own check of the file of records, and of what refers to what in it."""
    try:
        with connection.cursor() as cursor:
            cursor.execute("PRAGMA integrity_check(20)")
            yield from (f"records: {row[0]}" for row in cursor.fetchall() if row[0] != "ok")
            cursor.execute("PRAGMA foreign_key_check")
            yield from (
                f"records: row {row[1]} of {row[0]} refers to nothing in {row[2]}" for row in cursor.fetchmany(20)
            )
    except DatabaseError as error:
        yield f"records: {error}"


def _harmed(shelf: Shelf, identity: str) -> str:
    """Which versions a damaged content harms."""
    rows = ArtifactVersion.objects.filter(shelf=shelf, content=identity).order_by("-id")
    named = [f"{row.path} version {row.number}" for row in rows[:_MOST_VERSIONS_NAMED]]
    more = rows.count() - len(named)
    return f"; it is {', '.join(named)}" + (f" and {more} more" if more > 0 else "") if named else ""


def _check_versions(shelf: Shelf, contents: dict[str, int]) -> Iterator[str]:
    """Each version's content is recorded with its size, and an artifact's count is that of its versions."""
    rows = ArtifactVersion.objects.filter(shelf=shelf).exclude(content="")
    for version in rows.only("path", "number", "content", "size").iterator(2000):
        if version.content not in contents and not _is_held(shelf, version.content):
            yield f"{version.path} version {version.number}: its content {version.content[:12]} is not recorded"
    counted = shelf.artifacts.annotate(count=Count("versions__number"), highest=Max("versions__number"))
    for artifact in counted.iterator(2000):
        if artifact.versions_made != artifact.count or (artifact.highest or 0) != artifact.count:
            counted_as = f"{artifact.versions_made} versions are counted, {artifact.count} recorded"
            yield f"artifact {artifact.uid[:12]}: {counted_as}"


def _is_held(shelf: Shelf, identity: str) -> bool:
    """A folder kept whole has its node for content; others were recorded since the list was read."""
    return get_store().has(identity) or ShelfContent.objects.filter(shelf=shelf, content=identity).exists()


def _check_names(shelf: Shelf) -> Iterator[str]:
    for branch in shelf.branches.select_related("head"):
        if branch.head is not None and branch.head.shelf_id != shelf.pk:
            yield f"branch {branch.name} points to a commit of another shelf"
    for tag in shelf.tags.select_related("commit"):
        if tag.commit.shelf_id != shelf.pk:
            yield f"tag {tag.name} names a commit of another shelf"
    for merge in Merge.objects.filter(shelf=shelf, state="open"):
        for what, root in (("base", merge.base_root), ("source", merge.source_root)):
            if get_store().verify(root) is not None:
                yield f"merge {merge.uid}: the state of its {what} cannot be read"
    recorded = list(Commit.objects.filter(shelf=shelf).order_by("pk").values_list("pk", "recorded"))
    times = dict(recorded)
    for child, parent in CommitParent.objects.filter(commit__shelf=shelf, position=0).values_list("commit", "parent"):
        if parent in times and times[child] < times[parent]:
            yield f"commit number {child} was recorded before the one it builds on"


def check_manifest(identity: str, what: str) -> Iterator[str]:
    """That a stored record of a deployment can be read."""
    try:
        orjson.loads(get_store().read(identity))
    except (EveryShelfError, orjson.JSONDecodeError) as error:
        yield f"{what}: its record cannot be read: {error}"


def _parents(shelf: Shelf) -> dict[int, list[str]]:
    """For each commit the ids of its parents in order. In one query: prefetching them would ask for all ids in one
    expression, which SQLite refuses from a thousand on."""
    links = CommitParent.objects.filter(commit__shelf=shelf).order_by("commit", "position")
    parents: dict[int, list[str]] = {}
    for commit, parent in links.values_list("commit", "parent__uid"):
        parents.setdefault(commit, []).append(parent)
    return parents


def _check_commit(commit: Commit, parents: list[str]) -> list[str]:
    try:
        stored = decode_commit(get_store().read(commit.uid))
    except (BrokenError, MissingError) as error:
        return [f"commit {commit.uid[:8]}: {error}"]
    wrong = []
    if stored.root != commit.root:
        wrong.append(f"commit {commit.uid[:8]}: its record names another root than its body")
    if stored.parents != parents:
        wrong.append(f"commit {commit.uid[:8]}: its record names other parents than its body")
    said = (stored.summary, stored.author, stored.description, stored.labels, list(stored.tasks))
    if said != (commit.summary, commit.author, commit.description, commit.labels, list(commit.tasks)):
        wrong.append(f"commit {commit.uid[:8]}: its record says something else than its body")
    return wrong


def _check_tree(commit: Commit, seen: set[str], contents: dict[str, int]) -> list[str]:
    """Folders that an earlier commit had too are not read again."""
    waiting, wrong = [commit.root], []
    while waiting:
        node = waiting.pop()
        if node in seen:
            continue
        seen.add(node)
        bad = get_store().verify(node)
        if bad:
            wrong.append(f"commit {commit.uid[:8]}, a folder of it: {bad}")
            continue
        below, artifacts = get_trees().children(node)
        waiting.extend(below)
        wrong.extend(
            f"commit {commit.uid[:8]}: the content of {entry.name} is not recorded"
            for entry in artifacts
            if contents.get(entry.id) != entry.size
        )
    return wrong
