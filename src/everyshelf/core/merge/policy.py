"""What the merge of structured texts asks a kind: which type an item is of, what identifies it, what is only looks."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from everyshelf.core.formats.source import Group, Item, Node
from everyshelf.core.formats.xml import local_name
from everyshelf.core.kinds.cosmetic import Place
from everyshelf.core.kinds.merge_policy import MergePolicy
from everyshelf.core.kinds.plurals import singular
from everyshelf.core.kinds.shapes import label_of
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.outline.model import Items, Part, Scalar


class Policy:
    """The table of a kind, as the merge needs it."""

    def __init__(self, table: KindTable, merging: MergePolicy | None = None) -> None:
        self.table = table
        self.merging = merging or MergePolicy()
        self._types: dict[str, str] = {}

    def type_of(self, item: Item, within: str) -> str:
        """The part type of an item of the list or map called ``within``."""
        if item.node.shape == "element":
            name = local_name(item.node.value.tag)
            return self.table.types.get(name, name)
        if item.name == "#text":
            return "text"
        known = self._types.get(within)
        if known is None:
            known = self.table.types.get(within) or singular(within)
            if known == within and known not in self.table.types.values():
                known = "item"
            self._types[within] = known
        return known

    def parts_of(self, items: Sequence[Item], part_type: str) -> Sequence[Part]:
        """Items of one type as parts; objects become parts when somebody asks for one."""
        values = [i.node.value for i in items]
        if values and set(map(type, values)) == {dict}:
            return Items(part_type, values, lambda v: self._part(v, part_type))
        return [self._part(v, part_type) for v in values]

    def part_of(self, item: Item, part_type: str) -> Part:
        """An item as a part, for finding which is which."""
        return self._part(item.node.value, part_type)

    def _part(self, value: Any, part_type: str) -> Part:
        fields = fields_of(value)
        return Part(
            part_type,
            label_of(fields, part_type),
            None,
            value,
            fields,
            identity_fields=self.table.identity_of(part_type),
        )

    def is_unordered(self, part_type: str) -> bool:
        """True if the order of such items has no meaning."""
        return self.table.is_unordered(part_type)

    def is_made(self, place: Place) -> bool:
        """True for a value that a program writes by itself (a coordinate, a counter, a time): no author chose it."""
        if self.table.is_left_out(place.name):
            return True
        entry = self.table.cosmetic_field(place)
        return entry is not None and entry.made

    def is_inside_made(self, names: Sequence[str]) -> bool:
        """True below a part that a program writes by itself: a drawing, the outputs of a run."""
        for name in names:
            local = local_name(name)
            entry = self.table.cosmetic_type(self.table.types.get(local, local))
            if entry is not None and entry.made:
                return True
        return False


def scalars_of(group: Group | None) -> Mapping[str, Any]:
    """The plain values of a group by name: what stands beside each of them."""
    found: dict[str, Any] = {}
    for item in group.items if group is not None else ():
        if item.node.shape == "scalar" and item.name:
            found[local_name(item.name)] = item.node.value
        elif item.node.shape == "element" and not item.node.value.children and not item.node.value.attributes:
            found[local_name(item.node.value.tag)] = item.node.value.text
    return found


def fields_of(value: Any) -> dict[str, Scalar]:
    """The scalars of an object or element, by name."""
    if isinstance(value, dict):
        return {k: v for k, v in value.items() if not isinstance(v, dict | list)}
    if isinstance(value, tuple):
        _tag, attributes, text, children = value
        found: dict[str, Scalar] = {local_name(k): v for k, v in attributes.items()}
        if text:
            found["text"] = text
        for child in children:
            name = local_name(child[0])
            if not child[1] and not child[3] and name not in found and child[0] != "#text":
                found[name] = child[2]
        return found
    return {"value": value}


def is_named(node: Node) -> bool:
    """True for what can have a name of its own among its siblings."""
    return node.shape in ("map", "element")
