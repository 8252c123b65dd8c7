"""Re-reading everything a shelf consists of, and naming what does not match."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from everyshelf.core.errors import BrokenError, MissingError
from everyshelf.core.history.commits import decode_commit
from everyshelf.service.base.context import get_store, get_trees
from everyshelf.service.shelves.models import Commit, CommitParent, Shelf, ShelfContent


def verify_shelf(shelf: Shelf, progress: Callable[[int, int, str], None]) -> dict[str, Any]:
    """Check the chain of commits against the records, every folder node, and every content.

    Returns counts and ``problems``: one line for each thing that does not match.
    """
    problems: list[str] = []
    commits = list(Commit.objects.filter(shelf=shelf).order_by("pk"))
    parents = _parents(shelf)
    contents = dict(ShelfContent.objects.filter(shelf=shelf).values_list("content", "size"))
    total = len(commits) + len(contents)
    seen_nodes: set[str] = set()
    for done, commit in enumerate(commits):
        progress(done, total, commit.summary)
        problems.extend(_check_commit(commit, parents.get(commit.pk, [])))
        problems.extend(_check_tree(commit, seen_nodes, contents))
    for done, identity in enumerate(contents, len(commits)):
        progress(done, total, f"content {identity[:12]}")
        wrong = get_store().verify(identity)
        if wrong:
            problems.append(wrong)
    for branch in shelf.branches.select_related("head"):
        if branch.head is not None and branch.head.shelf_id != shelf.pk:
            problems.append(f"branch {branch.name} points to a commit of another shelf")
    return {"commits": len(commits), "contents": len(contents), "nodes": len(seen_nodes), "problems": problems}


def _parents(shelf: Shelf) -> dict[int, list[str]]:
    """For each commit the ids of its parents in order. In one query: prefetching them would ask for all ids in one
    expression, which SQLite refuses from a thousand on."""
    links = CommitParent.objects.filter(commit__shelf=shelf).order_by("commit", "position")
    found: dict[int, list[str]] = {}
    for commit, parent in links.values_list("commit", "parent__uid"):
        found.setdefault(commit, []).append(parent)
    return found


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
    if (stored.summary, stored.author) != (commit.summary, commit.author):
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
