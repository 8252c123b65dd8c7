"""The lines of a shelf: its newest commits with their parents, and which branches and tags stand on them."""

from __future__ import annotations

from collections import defaultdict
from typing import Any

from everyshelf.service.shelves.actions.lineage import lineage_of
from everyshelf.service.shelves.models import Commit, Shelf

MOST = 1000


def lines_of(shelf: Shelf, limit: int) -> dict[str, Any]:
    """The newest commits of all branches, newest first; ``more``: there are older ones. A parent that is older than
    those given is named all the same."""
    size = min(limit, MOST)
    rows = list(Commit.objects.filter(shelf=shelf).order_by("-pk")[: size + 1])
    page = rows[:size]
    lineage = lineage_of(shelf)
    wanted = {parent for commit in page for parent in lineage.parents(commit.pk)}
    names = dict(Commit.objects.filter(pk__in=wanted).values_list("pk", "uid"))
    heads: dict[int, list[str]] = defaultdict(list)
    for name, head in shelf.branches.order_by("name").values_list("name", "head_id"):
        heads[head].append(name)
    tags: dict[int, list[str]] = defaultdict(list)
    for name, commit_id in shelf.tags.order_by("name").values_list("name", "commit_id"):
        tags[commit_id].append(name)
    return {
        "main": shelf.main_branch,
        "commits": [
            {
                "commit": c.uid,
                "parents": [names[p] for p in lineage.parents(c.pk) if p in names],
                "author": c.author,
                "recorded": c.recorded,
                "summary": c.summary,
                "branches": heads.get(c.pk, []),
                "tags": tags.get(c.pk, []),
            }
            for c in page
        ],
        "more": len(rows) > size,
    }
