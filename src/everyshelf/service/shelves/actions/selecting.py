"""A tag's selection, wherever the tag names a state: what it did not select is not part of that state.

The state is a tree of its own, made of the folders that the commit has. It keeps the rules of the commit, since what a
selected artifact means does not depend on whether ``shelf.toml`` was selected, too.
"""

from __future__ import annotations

import functools
import time
from dataclasses import replace

from everyshelf.core.history.trees import Entry
from everyshelf.service.base.context import get_store, get_trees
from everyshelf.service.shelves.actions.recording import rule_as
from everyshelf.service.shelves.actions.refs import Resolved
from everyshelf.service.shelves.models import Shelf, Tag

_SECONDS = 3600  # after which a tree that was made is made again: unused ones are freed after days
Selection = tuple[str, ...]


def selection_of(shelf: Shelf, state: Resolved) -> Selection | None:
    """The paths that the tag selects by which a state is named; None for all there is."""
    if state.kind != "tag":
        return None
    chosen = Tag.objects.filter(shelf=shelf, name=state.ref.removeprefix("tag:")).values_list("selection", flat=True)
    found = chosen.first()
    return tuple(found) if found is not None else None


def as_selected(shelf: Shelf, state: Resolved) -> Resolved:
    """The state with what its tag selects."""
    selection = selection_of(shelf, state)
    return _only(state, selection) if selection is not None else state


def both_selected(shelf: Shelf, before: Resolved, after: Resolved) -> tuple[Resolved, Resolved]:
    """Two states to compare. If only one is of a selection, the other is looked at as far as that goes: what was never
    selected was neither added nor removed."""
    one, other = selection_of(shelf, before), selection_of(shelf, after)
    if one is None and other is None:
        return before, after
    mine, theirs = one if one is not None else other, other if other is not None else one
    assert mine is not None and theirs is not None
    return _only(before, mine), _only(after, theirs)


def _only(state: Resolved, selection: Selection) -> Resolved:
    root = _selected(state.root, selection, int(time.time() // _SECONDS))
    rule_as(root, state.root)
    return replace(state, root=root)


@functools.lru_cache(maxsize=256)
def _selected(root: str, selection: Selection, _hour: int) -> str:
    trees = get_trees()
    chosen: dict[str, Entry | None] = {}
    for path in selection:
        entry = trees.find(root, path)
        if entry is not None and entry.type in ("artifact", "whole"):
            chosen[path] = entry
        elif entry is not None:
            chosen.update(trees.walk(entry.id, f"{path}/"))
    made = trees.apply(trees.empty, chosen) if chosen else trees.empty
    get_store().sync()
    return made
