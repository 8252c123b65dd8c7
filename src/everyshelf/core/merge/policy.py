"""What the merge of structured texts asks a kind: which type an item is of, what identifies it, what is only looks."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from everyshelf.core.formats.source import Item, Node
from everyshelf.core.formats.xml import local_name
from everyshelf.core.kinds.layout import LAYOUT_PARTS, SAVE_STAMPS
from everyshelf.core.kinds.shapes import label_of
from everyshelf.core.kinds.table import KindTable, singular
from everyshelf.core.outline.model import Items, Part, Scalar

_POSITIONS = frozenset({"x", "y", "z", "width", "height", "position", "left", "top", "positionX", "positionY", "zoom"})


class Policy:
    """The table of a kind, as the merge needs it."""

    def __init__(self, table: KindTable) -> None:
        self.table = table
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

    def is_layout(self, name: str, path: tuple[str, ...]) -> bool:
        """True for what only places or dates a drawing: taken from the side that changed it, never a conflict."""
        names = {local_name(n) for n in (*path, name)}
        if names & LAYOUT_PARTS or local_name(name) in SAVE_STAMPS or local_name(name) in _POSITIONS:
            return True
        types = {self.table.types.get(n, n) for n in names}
        return bool(types & self.table.cosmetic_types)


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
