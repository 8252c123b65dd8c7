"""Which item of the base is which item of one side, down to where both texts are equal."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from everyshelf.core.compare.identity import Identity, find_identity, keys_of
from everyshelf.core.compare.pairing import (
    RENAMED_LIKENESS,
    content_key,
    equal_leftovers,
    gap_pairs,
    minus,
    pairs_by_equal,
    pairs_by_likeness,
    without,
)
from everyshelf.core.compare.same import canonical, leaf_set
from everyshelf.core.compare.sequence import align
from everyshelf.core.formats.source import Group, Item, Node
from everyshelf.core.formats.xml import Element
from everyshelf.core.merge.policy import Policy, is_named
from everyshelf.core.outline.model import Part, values_of

Pair = tuple[int, int]
_MOVE_LEAVES = 3


@dataclass
class Loose:
    """An item that only one of base and side has at its place."""

    item: Item
    type: str
    key: str | None
    within: str = ""  # the name of its list


class Matching:
    """The base matched with one side.

    ``side_of``: base item -> its counterpart, by id; ``base_of`` the reverse. ``moved``: base items whose counterpart
    stands under another parent. ``identity``: of a base group, by id and type, how its items are told apart.
    ``changed``: values that differ, with their names. ``edits``: how many values were changed, added, removed or moved.
    """

    def __init__(self, policy: Policy, base: Node, side: Node) -> None:
        self._policy = policy
        self.side_of: dict[int, Item] = {}
        self.base_of: dict[int, Item] = {}
        self.moved: set[int] = set()
        self.identity: dict[tuple[int, str], Identity] = {}
        self.edits = 0
        self.removed: list[Loose] = []
        self.added: list[Loose] = []
        self.changed: list[tuple[str, Node]] = []
        self._nodes(base, side, "")
        self._find_moves()

    def _nodes(self, base: Node, side: Node, name: str) -> None:
        if base.text == side.text:
            return
        if base.shape != side.shape or base.shape == "scalar":
            self.edits += 1
            self.changed.append((name, side))
            return
        for old, new in zip(base.groups, side.groups, strict=False):
            if old.kind == "map":
                self._map(old, new)
            else:
                self._list(old, new, name)

    def _map(self, old: Group, new: Group) -> None:
        place = {item.name: item for item in new.items}
        gone = []
        for item in old.items:
            found = place.pop(item.name, None)
            if found is None:
                gone.append(item)
            else:
                self._pair(item, found, item.name or "")
        self._renamed(gone, list(place.values()))

    def _renamed(self, gone: list[Item], come: list[Item]) -> None:
        pairs: list[Pair] = []
        if gone and come:
            before, after = ([self._policy.part_of(i, "item") for i in side] for side in (gone, come))
            able = [[n for n, i in enumerate(side) if i.node.shape != "scalar"] for side in (gone, come)]
            pairs = pairs_by_equal(before, after, able[0], able[1], ())
            left = minus(able[0], pairs, 0), minus(able[1], pairs, 1)
            pairs += pairs_by_likeness(before, after, *left, (), RENAMED_LIKENESS)
        for i, j in pairs:
            self.edits += 1
            self._pair(gone[i], come[j], come[j].name or "")
        self._rest(
            [Loose(g, g.name or "", g.name) for n, g in enumerate(gone) if n not in {i for i, _ in pairs}],
            [Loose(c, c.name or "", c.name) for n, c in enumerate(come) if n not in {j for _, j in pairs}],
        )

    def _list(self, old: Group, new: Group, name: str) -> None:
        for part_type, (before, after) in self._by_type(old, new, name).items():
            self._siblings(old, part_type, before, after, name)

    def _by_type(self, old: Group, new: Group, name: str) -> dict[str, tuple[list[Item], list[Item]]]:
        every = [*old.items[:1], *new.items[:1]]
        if every and all(i.node.shape != "element" and i.name is None for i in every):
            # In data all items of a list are of the type its name says.
            return {self._policy.type_of(every[0], name): (list(old.items), list(new.items))}
        groups: dict[str, tuple[list[Item], list[Item]]] = defaultdict(lambda: ([], []))
        for which, group in enumerate((old, new)):
            for item in group.items:
                groups[self._policy.type_of(item, name)][which].append(item)
        return groups

    def _siblings(self, group: Group, part_type: str, before: list[Item], after: list[Item], within: str) -> None:
        olds, news = (self._policy.parts_of(side, part_type) for side in (before, after))
        kinds = {type(value) for side in (olds, news) for value in values_of(side)}
        identity = find_identity(olds, news) if kinds in ({dict}, {Element}) else Identity()
        alone = len(before) == len(after) == 1 and before[0].node.shape == "element"
        if alone and not identity.fields:
            self._pair(before[0], after[0], part_type)
            return
        if identity.fields:
            self.identity[id(group), part_type] = identity
            pairs = self._by_key(olds, news, identity)
        else:
            pairs = self._by_content(olds, news, identity)
        self._pairs([(before[i], after[j]) for i, j in pairs], part_type)

        def loose(items: list[Item], parts: Sequence[Part], matched: set[int]) -> list[Loose]:
            if len(matched) == len(items):
                return []
            keys: Sequence[str | None] = keys_of(parts, identity.fields) if identity.fields else [None] * len(parts)
            return [Loose(items[n], part_type, keys[n], within) for n in without(parts, matched)]

        self._rest(loose(before, olds, {i for i, _ in pairs}), loose(after, news, {j for _, j in pairs}))

    def _by_key(self, olds: Sequence[Part], news: Sequence[Part], identity: Identity) -> list[Pair]:
        was, now = keys_of(olds, identity.fields), keys_of(news, identity.fields)
        if was == now:
            return [(n, n) for n in range(len(was))]
        place = {key: j for j, key in enumerate(now)}
        pairs = [(i, place[key]) for i, key in enumerate(was) if key in place]
        left = without(olds, {i for i, _ in pairs}), without(news, {j for _, j in pairs})
        if all(left):
            pairs += (more := pairs_by_equal(olds, news, *left, identity.fields))
            rest = minus(left[0], more, 0), minus(left[1], more, 1)
            if olds[0].type not in self._policy.table.renamed_if_equal:
                pairs += pairs_by_likeness(olds, news, *rest, identity.fields, RENAMED_LIKENESS)
        return pairs

    @staticmethod
    def _by_content(olds: Sequence[Part], news: Sequence[Part], identity: Identity) -> list[Pair]:
        skip = identity.regenerated
        keys = [[content_key(p, skip) for p in side] for side in (olds, news)]
        pairs = align(*keys)
        left = without(olds, {i for i, _ in pairs}), without(news, {j for _, j in pairs})
        moved = equal_leftovers(keys[0], keys[1], left[0], left[1])
        left = minus(left[0], moved, 0), minus(left[1], moved, 1)
        return [*pairs, *moved, *gap_pairs(olds, news, pairs, *left, skip)]

    def _pair(self, old: Item, new: Item, name: str) -> None:
        self.side_of[id(old)] = new
        self.base_of[id(new)] = old
        if old.node.text != new.node.text:
            self._nodes(old.node, new.node, name)

    def _pairs(self, pairs: list[tuple[Item, Item]], name: str) -> None:
        self.side_of.update((id(old), new) for old, new in pairs)
        self.base_of.update((id(new), old) for old, new in pairs)
        for old, new in pairs:
            if old.node.text != new.node.text:
                self._nodes(old.node, new.node, name)

    def _rest(self, gone: list[Loose], come: list[Loose]) -> None:
        self.removed += gone
        self.added += come
        self.edits += len(gone) + len(come)

    # --- moves to another parent ---------------------------------------------

    def _find_moves(self) -> None:
        if not self.removed or not self.added:
            return
        for key in (_content, self._lasting):
            waiting: dict[Any, list[Loose]] = defaultdict(list)
            for loose in self.removed:
                if id(loose.item) not in self.side_of and (found := key(loose)) is not None:
                    waiting[found].append(loose)
            come = list(self.added)
            for loose in come:
                if id(loose.item) in self.base_of or not waiting.get(key(loose)):
                    continue
                old = waiting[key(loose)].pop(0)
                self.moved.add(id(old.item))
                self.edits -= 1
                self._pair(old.item, loose.item, loose.type)

    def _lasting(self, loose: Loose) -> Any:
        """What a part keeps when it goes to another parent: an id, where ids are unique in the whole document."""
        if not is_named(loose.item.node):
            return None
        value = loose.item.node.value
        held = value.attributes if isinstance(value, Element) else value
        return (loose.type, str(held["id"])) if held.get("id") else None


def _content(loose: Loose) -> Any:
    value = loose.item.node.value
    if not is_named(loose.item.node) or len(leaf_set(value)) < _MOVE_LEAVES:
        return None
    return loose.item.node.shape, loose.key, canonical(value)


def leaves_of(item: Item, within: str = "") -> Iterator[tuple[str, Any]]:
    """Name and value of each scalar in an item; those of a list have the list's name."""
    name = item.name or within
    if not item.node.groups:
        yield name, item.node.value
    for group in item.node.groups:
        for inner in group.items:
            yield from leaves_of(inner, name)
