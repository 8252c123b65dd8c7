"""Merging two states of a shelf that grew from one base, artifact by artifact, with moves followed."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, replace

from everyshelf.core.history.trees import Change, Entry, Trees
from everyshelf.core.merge import Side, merge_whole


@dataclass(frozen=True)
class Conflict:
    """An artifact both sides changed; content ids, None where it is gone or was not there."""

    path: str
    base: str | None
    this: str | None
    other: str | None


@dataclass(frozen=True)
class TreeMerge:
    """What to apply onto ``this`` to get the merged state; conflicts are left as they are on this side."""

    changes: dict[str, Entry | None]
    conflicts: list[Conflict]


def find_moves(changes: list[Change]) -> dict[str, str]:
    """Old path -> new path of artifacts that went and came back with equal content that occurs only once."""
    gone = {c.before.id: c.path for c in changes if c.before is not None and c.after is None}
    come = {c.after.id: c.path for c in changes if c.after is not None and c.before is None}
    gone_counts = Counter(c.before.id for c in changes if c.before is not None and c.after is None)
    come_counts = Counter(c.after.id for c in changes if c.after is not None and c.before is None)
    return {
        path: come[content]
        for content, path in gone.items()
        if content in come and gone_counts[content] == come_counts[content] == 1
    }


def merge_trees(trees: Trees, base: str, this: str, other: str, prefer: Side | None = None) -> TreeMerge:
    """Merge ``other`` into ``this``. What one side moved and the other edited is edited where it is."""
    ours, theirs = list(trees.changes(base, this)), list(trees.changes(base, other))
    moved_here, moved_there = find_moves(ours), find_moves(theirs)
    own = {c.path: c for c in ours}
    other_paths = {c.path: c for c in theirs}
    result: dict[str, Entry | None] = {}
    conflicts: list[Conflict] = []
    for change in theirs:
        if change.path in moved_there and _edited(own.get(change.path)):
            _follow_move_there(change, moved_there[change.path], own[change.path], result)
        elif change.path in moved_there.values() and change.path in result:
            continue
        elif change.path in moved_here and change.after is not None:
            target = moved_here[change.path]
            result[target] = replace(change.after, name=target.rpartition("/")[2])
        else:
            _merge_path(change, own.get(change.path), prefer, result, conflicts)
    _drop_shadowed(trees, this, result, other_paths, conflicts)
    return TreeMerge(result, conflicts)


def _edited(change: Change | None) -> bool:
    return change is not None and change.before is not None and change.after is not None


def _follow_move_there(change: Change, target: str, own: Change, result: dict[str, Entry | None]) -> None:
    assert own.after is not None
    result[change.path] = None
    result[target] = replace(own.after, name=target.rpartition("/")[2])


def _merge_path(
    theirs: Change,
    ours: Change | None,
    prefer: Side | None,
    result: dict[str, Entry | None],
    conflicts: list[Conflict],
) -> None:
    this = ours.after if ours is not None else theirs.before
    choice = merge_whole(theirs.before, this, theirs.after, prefer)
    if choice.side is None:
        conflicts.append(Conflict(theirs.path, _id(theirs.before), _id(this), _id(theirs.after)))
    elif choice.side == "other":
        result[theirs.path] = theirs.after


def _drop_shadowed(
    trees: Trees, this: str, result: dict[str, Entry | None], theirs: dict[str, Change], conflicts: list[Conflict]
) -> None:
    """A file on one side where the other has a folder of that name cannot be put together: a conflict."""
    for path, entry in list(result.items()):
        if entry is None:
            continue
        parts = path.split("/")
        blocked = next(
            (p for k in range(1, len(parts)) if _is_artifact(trees, this, result, p := "/".join(parts[:k]))), None
        )
        here = trees.find(this, path)
        if blocked is not None or (here is not None and here.type == "folder"):
            del result[path]
            conflicts.append(Conflict(path, None, _id(here), _id(entry)))


def _is_artifact(trees: Trees, root: str, result: dict[str, Entry | None], path: str) -> bool:
    entry = result[path] if path in result else trees.find(root, path)
    return entry is not None and entry.type != "folder"


def _id(entry: Entry | None) -> str | None:
    return entry.id if entry is not None else None
