"""Merging two states of a shelf that grew from one base, artifact by artifact, with moves followed.

What both sides changed in one artifact is left to ``Combine``: as a whole by default, by its meaning in the service.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace

import msgspec

from everyshelf.core.answers.merges import ConflictAnswer
from everyshelf.core.history.trees import Change, Entry, Trees
from everyshelf.core.merge.model import Side
from everyshelf.core.merge.whole import merge_whole


@dataclass(frozen=True)
class Trio:
    """One artifact in three states, None where it is not there, under the path it has after the merge."""

    path: str
    base: Entry | None
    target: Entry | None
    source: Entry | None


@dataclass
class Combined:
    """What came of an artifact both sides changed: its entry (None: gone); ``open`` while something is to be settled.

    ``conflicts``, ``notes`` and ``combined`` as in ``MergeAnswer``.
    """

    entry: Entry | None
    open: bool = False
    conflicts: list[ConflictAnswer] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    combined: int = 0
    kind: str = ""


@dataclass(frozen=True)
class Conflict:
    """An artifact both sides changed that is to be settled; content ids, None where it is gone or was not there."""

    path: str
    base: str | None
    target: str | None
    source: str | None


@dataclass
class TreeMerge:
    """What to apply onto ``target`` to get the merged state; open conflicts are left as they are there.

    ``artifacts``: all that both sides changed. ``moves``: old path -> new path that the merge brings to the target.
    """

    changes: dict[str, Entry | None] = field(default_factory=dict)
    conflicts: list[Conflict] = field(default_factory=list)
    artifacts: list[tuple[Trio, Combined]] = field(default_factory=list)
    moves: dict[str, str] = field(default_factory=dict)


Combine = Callable[[Trio], Combined]
Moves = Mapping[str, str]


def as_wholes(prefer: Side | None) -> Combine:
    """Artifacts merged as wholes: what both sides changed is a conflict unless a side is preferred."""

    def combine(trio: Trio) -> Combined:
        choice = merge_whole(trio.base, trio.target, trio.source, prefer)
        return Combined(trio.source if choice.side == "source" else trio.target, open=choice.side is None)

    return combine


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


def merge_trees(
    trees: Trees,
    base: str,
    target: str,
    source: str,
    combine: Combine,
    recorded: tuple[Moves, Moves] = ({}, {}),
) -> TreeMerge:
    """Merge ``source`` into ``target``. What one side moved and the other edited is edited where it is.

    ``recorded``: moves people recorded on either side, old path -> new path.
    """
    return _Merge(
        trees, target, _Side(trees, base, target, recorded[0]), _Side(trees, base, source, recorded[1]), combine
    ).run()


class _Side:
    """What one side did to the base."""

    def __init__(self, trees: Trees, base: str, side: str, recorded: Moves) -> None:
        self.changes = {c.path: c for c in trees.changes(base, side)}
        gone = {p for p, c in self.changes.items() if c.after is None}
        come = {p for p, c in self.changes.items() if c.before is None}
        known = {old: new for old, new in recorded.items() if old in gone and new in come}
        self.moves = {**find_moves(list(self.changes.values())), **known}
        self.targets = {new: old for old, new in self.moves.items()}

    def state(self, path: str, before: Entry | None) -> tuple[str, Entry | None]:
        """Where an artifact of the base is, and what it is there."""
        place = self.moves.get(path, path)
        change = self.changes.get(place)
        return (place, change.after) if change is not None else (path, before)


class _Merge:
    def __init__(self, trees: Trees, root: str, on_target: _Side, on_source: _Side, combine: Combine) -> None:
        self._trees, self._root, self._target, self._source = trees, root, on_target, on_source
        self._combine = combine
        self._result = TreeMerge()

    def run(self) -> TreeMerge:
        for path, change in self._source.changes.items():
            if change.before is not None:
                self._existing(path, change.before)
            elif path not in self._source.targets:
                self._new(path, change.after)
        self._drop_shadowed()
        return self._result

    def _existing(self, path: str, before: Entry) -> None:
        here, target = self._target.state(path, before)
        there, source = self._source.state(path, before)
        place = here if there in (path, here) or self._held_here(there) else there
        if self._target.moves.get(path) and self._source.moves.get(path) and here != there:
            place = here  # both put it elsewhere: it stays where the target has it
        if target is None and source is None:
            return
        trio = Trio(place, before, target, source)
        if here == there and _all_whole(trio) and len({e.id for e in (before, target, source) if e is not None}) == 3:
            self._inside_of_whole(trio)
            return
        found = self._combined(trio)
        if found.open:
            self._result.conflicts.append(Conflict(place, before.id, _id(target), _id(source)))
            self._place(here, here, target)
            return
        self._place(here, place, found.entry)

    def _new(self, path: str, entry: Entry | None) -> None:
        own = self._target.changes.get(path)
        if own is None or own.after is None:
            self._result.changes[path] = entry
            return
        found = self._combined(Trio(path, None, own.after, entry))
        if found.open:
            self._result.conflicts.append(Conflict(path, None, own.after.id, _id(entry)))
        else:
            self._place(path, path, found.entry)

    def _combined(self, trio: Trio) -> Combined:
        target, source, base = (_content(e) for e in (trio.target, trio.source, trio.base))
        if target == source or source == base:
            return Combined(trio.target)
        if target == base:
            return Combined(trio.source)
        found = self._combine(trio)
        self._result.artifacts.append((trio, found))
        return found

    def _inside_of_whole(self, trio: Trio) -> None:
        """Files of one folder that is kept whole: merged one by one, told as what they are."""
        assert trio.base is not None and trio.target is not None and trio.source is not None
        inner = merge_trees(
            self._trees,
            trio.base.id,
            trio.target.id,
            trio.source.id,
            lambda found: self._combine(replace(found, path=f"{trio.path}/{found.path}")),
        )
        for path, entry in inner.changes.items():
            self._result.changes[f"{trio.path}/{path}"] = entry
        for conflict in inner.conflicts:
            self._result.conflicts.append(replace(conflict, path=f"{trio.path}/{conflict.path}"))
        for found, combined in inner.artifacts:
            self._result.artifacts.append((replace(found, path=f"{trio.path}/{found.path}"), combined))

    def _held_here(self, path: str) -> bool:
        """True where the target has another artifact at a path."""
        own = self._target.changes.get(path)
        return own is not None and own.after is not None and path not in self._target.targets

    def _place(self, here: str, place: str, entry: Entry | None) -> None:
        """The artifact that the target has at ``here`` moves to ``place``, or goes."""
        if here != place or entry is None:
            self._result.changes[here] = None
        if entry is not None:
            self._result.changes[place] = msgspec.structs.replace(entry, name=place.rpartition("/")[2])
            if here != place:
                self._result.moves[here] = place

    def _drop_shadowed(self) -> None:
        """A file on one side where the other has a folder of that name cannot be put together: a conflict."""
        changes = self._result.changes
        for path, entry in list(changes.items()):
            if entry is None:
                continue
            parts = path.split("/")
            blocked = next((p for k in range(1, len(parts)) if self._is_artifact(p := "/".join(parts[:k]))), None)
            here = self._trees.find(self._root, path)
            if blocked is not None or (here is not None and here.type == "folder"):
                del changes[path]
                self._result.conflicts.append(Conflict(path, None, _id(here), _id(entry)))

    def _is_artifact(self, path: str) -> bool:
        changes = self._result.changes
        entry = changes[path] if path in changes else self._trees.find(self._root, path)
        return entry is not None and entry.type == "artifact"


def _all_whole(trio: Trio) -> bool:
    return all(e is not None and e.type == "whole" for e in (trio.base, trio.target, trio.source))


def _id(entry: Entry | None) -> str | None:
    return entry.id if entry is not None else None


def _content(entry: Entry | None) -> tuple[str, str] | None:
    return (entry.type, entry.id) if entry is not None else None
