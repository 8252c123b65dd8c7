"""Moves that people recorded, between two commits."""

from __future__ import annotations

from collections.abc import Iterable

from everyshelf.core.history.trees import Change
from everyshelf.service.shelves.actions.seen import versions_at
from everyshelf.service.shelves.models import Commit, Shelf


def recorded_moves(
    shelf: Shelf, before: Commit | None, after: Commit | None, changes: Iterable[Change]
) -> dict[str, str]:
    """Old path -> new path: the same artifact under a path that went and one that came."""
    gone: dict[str, str] = {}
    come: dict[str, str] = {}
    for change in changes:
        if change.after is None and change.before is not None:
            gone[change.path] = change.before.id
        elif change.before is None and change.after is not None:
            come[change.path] = change.after.id
    if not gone or not come or before is None or after is None:
        return {}
    old = {v.artifact_id: p for p, v in versions_at(shelf, before, gone).items()}
    new = {v.artifact_id: p for p, v in versions_at(shelf, after, come).items()}
    return {old[artifact]: new[artifact] for artifact in old.keys() & new.keys()}
