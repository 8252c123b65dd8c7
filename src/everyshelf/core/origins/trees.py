"""Origins of an outline: which version last set each part and field, kept only where it differs from its parent's.

``carried`` makes the origins of a version from those of the one before it and the step between; ``combined`` those of a
merge from what came over from either side.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence

import msgspec

from everyshelf.core.origins.steps import Places, Step

NEVER = -1
REMOVED = "\0removed"  # among the fields of a part: the version that last removed one


class Node(msgspec.Struct, array_like=True, omit_defaults=True):
    """A part. ``own``: the version that last set it as a whole, which holds for all below that says nothing else.
    ``fields`` and ``below``: what was set later (or comes from elsewhere), children by place. ``looks`` and ``looked``:
    versions that changed nothing but looks since, of the part and of its fields."""

    own: int
    fields: dict[str, int] = {}
    below: dict[int, Node] = {}
    looks: int = NEVER
    looked: dict[str, int] = {}

    def field(self, name: str) -> int:
        """The version that last set a field."""
        return self.fields.get(name, self.own)

    def child(self, place: int) -> Node:
        """The origins of a child."""
        return self.below.get(place) or Node(self.own)


def first(version: int) -> Node:
    """The origins of a version that comes from no other."""
    return Node(version)


def carried(step: Step, before: Node, version: int) -> Node:
    """The origins of ``version``, whose step from the version with the origins ``before`` this is."""
    return _carried(step, before, before, version)


def _carried(step: Step, old: Node, root: Node, version: int) -> Node:
    if step.is_empty:
        return old
    if step.whole:
        return Node(version)
    if step.looks:
        return Node(old.own, old.fields, old.below, version, old.looked)
    fields, looked = dict(old.fields), dict(old.looked)
    for name, field in step.fields.items():
        if field.touch == "looks":
            looked[name] = version
            continue
        looked.pop(name, None)
        if field.touch == "set":
            fields[name] = version
        else:
            fields.pop(name, None)
            fields[REMOVED] = version  # the part has its present form since then
    below = _children(step, old)
    for place, kept in step.kept.items():
        below[place] = _carried(kept.step, old.child(kept.place), root, version)
    for place, came in step.came.items():
        below[place] = _carried(came.step, at(root, came.places), root, version)
    for place in step.added:
        below[place] = Node(version)
    if step.columns:
        _columns(step, below, old.own, version)
    return Node(old.own, fields, below, old.looks, looked)


def _children(step: Step, old: Node) -> dict[int, Node]:
    """Children that were carried as they were, at their places in the newer version."""
    if not step.runs:
        below = old.below.copy()
        for place in [*(kept.place for kept in step.kept.values()), *(gone.place for gone in step.gone)]:
            below.pop(place, None)
        return below
    runs = sorted(step.runs)
    starts = [run[0] for run in runs]
    below = {}
    for place, node in old.below.items():
        at_run = bisect_right(starts, place) - 1
        if at_run >= 0 and place < runs[at_run][0] + runs[at_run][2]:
            below[place - runs[at_run][0] + runs[at_run][1]] = node
    return below


def _columns(step: Step, below: dict[int, Node], own: int, version: int) -> None:
    """Columns of a table in an outline: fields of its rows under other names, or new."""
    places = {*below, *(place + k for _, place, count in step.runs for k in range(count))}
    for place in places:
        node = below.get(place) or Node(own)
        fields = {name: at for name, at in node.fields.items() if name not in step.columns.values()}
        for name, old in step.columns.items():
            fields[name] = version if old is None else node.field(old)
        below[place] = Node(node.own, fields, node.below, node.looks, node.looked)


def at(root: Node, places: Sequence[int]) -> Node:
    """The origins of the part at these places below ``root``."""
    node = root
    for place in places:
        node = node.child(place)
    return node


def combined(one: Node, other: Node, version: int) -> Node:
    """The origins of a merge: ``one`` and ``other`` are carried from its sides; what both call new is the merge's."""
    if one is other:
        return one

    def of(left: int, right: int) -> int:
        return left if left != version else right

    own = of(one.own, other.own)
    fields = {name: of(one.field(name), other.field(name)) for name in {**one.fields, **other.fields}}
    looked = {
        name: of(one.looked.get(name, NEVER), other.looked.get(name, NEVER)) for name in {**one.looked, **other.looked}
    }
    below = {place: combined(one.child(place), other.child(place), version) for place in {**one.below, **other.below}}
    return Node(own, fields, below, of(one.looks, other.looks), {n: v for n, v in looked.items() if v != NEVER})


class Traced(msgspec.Struct):
    """What a step says of one part: where it was before (None: new), and the step of it (None: nothing changed)."""

    places: Places | None
    step: Step | None
    moved: bool = False


def traced(step: Step, places: Sequence[int]) -> Traced:
    """Where the part at ``places`` of the newer version was in the older, and what became of it."""
    here: Step | None = step
    before: Places = []
    moved = False
    for place in places:
        if here is None or here.is_empty or here.looks:
            before.append(place)  # nothing changed from here on down
            here = None
            continue
        if here.whole or place in here.added:
            return Traced(None, here)
        moved = moved or here.moved
        if place in here.kept:
            before.append(here.kept[place].place)
            here = here.kept[place].step
        elif place in here.came:
            before = list(here.came[place].places)
            here, moved = here.came[place].step, True
        else:
            before.append(_place_before(here, place))
            here = None
    return Traced(before, here, moved or bool(here is not None and here.moved))


def _place_before(step: Step, place: int) -> int:
    for old, new, count in step.runs:
        if new <= place < new + count:
            return old + place - new
    return place


def latest(node: Node) -> int:
    """The newest version that set a part or anything in it."""
    below = (latest(child) for child in node.below.values())
    return max(node.own, *node.fields.values(), *below, NEVER)
