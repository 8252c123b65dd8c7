"""How a plain tree (JSON, YAML, TOML) and an XML tree become parts, under the table of a kind."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from everyshelf.core.formats.xml import Element
from everyshelf.core.kinds.cosmetic import is_drawn_at
from everyshelf.core.kinds.plurals import singular
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.outline.model import Items, Part, Scalar

_CONTAINERS = (dict, list)
_MAX_LABEL = 80


def label_of(fields: dict[str, Scalar], fallback: str) -> str:
    """What people call a part with these fields."""
    for name in ("name", "label", "title", "id", "key", "code", "path"):
        value = fields.get(name)
        if isinstance(value, str | int) and not isinstance(value, bool) and str(value).strip():
            return str(value)[:_MAX_LABEL]
    first = next((v for v in fields.values() if isinstance(v, str) and v.strip()), None)
    return (first if first is not None and fallback in ("", "item") else fallback)[:_MAX_LABEL]


class _ObjectPart(Part):
    """The part of one object; its fields and label are worked out when somebody asks, which for most items of a long
    list is never."""

    __slots__ = ("_fallback", "_fields", "_said", "_shape")

    # One for all: there are as many of these parts as a file has objects.
    ordered = through = sequence = False

    def __init__(self, shape: DataShape, value: dict[str, Any], part_type: str, key: str | None, fallback: str) -> None:
        self.type, self.key, self.value = part_type, key, value
        self._shape, self._fallback = shape, fallback
        self._fields: dict[str, Scalar] | None = None
        self._said: str | None = None

    def expand(self) -> list[Part]:
        return self._shape.members(self.value)

    @property
    def identity_fields(self) -> tuple[str, ...]:  # type: ignore[override]
        return self._shape.table.identity_of(self.type)

    @property
    def fields(self) -> dict[str, Scalar]:  # type: ignore[override]
        if self._fields is None:
            left_out = self._shape.table.is_left_out
            self._fields = {k: v for k, v in self.value.items() if type(v) not in _CONTAINERS and not left_out(k)}
        return self._fields

    @property
    def label(self) -> str:
        if self._said is None:
            ends = [self.fields.get(end) for end in ("from", "to")]
            if self.type == "connection" and all(isinstance(end, str) for end in ends):
                self._said = " → ".join(str(end) for end in ends)
            else:
                self._said = label_of(self.fields, self._fallback)
        return self._said

    @label.setter
    def label(self, text: str) -> None:
        self._said = text


class DataShape:
    """Parts of a tree of dict, list and scalars."""

    def __init__(self, table: KindTable) -> None:
        self.table = table

    def root(self, tree: Any, kind: str) -> Part:
        """The root part; its key is empty because nothing stands beside it."""
        if isinstance(tree, dict):
            return self._object(tree, kind, "", kind)
        if isinstance(tree, list):
            return self._list(tree, "items", kind)
        return Part(kind, str(tree)[:_MAX_LABEL], "", tree, {"value": tree})

    def _object(self, tree: dict[str, Any], part_type: str, key: str | None, fallback: str) -> Part:
        return _ObjectPart(self, tree, part_type, key, fallback)

    def members(self, tree: dict[str, Any]) -> list[Part]:
        result = []
        draws = self.table.cosmetic_type("layout") is not None
        for name, value in tree.items():
            if name in self.table.ignored:
                continue
            if draws and isinstance(value, list | dict) and is_drawn_at(name, value, tree):
                result.append(Part("layout", name, name, value))
            elif isinstance(value, list):
                result.append(self._list(value, name, name))
            elif isinstance(value, dict):
                result.append(self._map(value, name) if self.is_map(name, value) else self._member(value, name))
        return result

    def _member(self, value: dict[str, Any], name: str) -> Part:
        part = self._object(value, name if self.table.cosmetic_type(name) else "group", name, name)
        part.label = name
        return part

    def is_map(self, name: str, value: dict[str, Any]) -> bool:
        """A map of named things: known to the kind, or every value an object and the name a plural."""
        if not value:
            return name in self.table.types
        many = all(isinstance(v, dict) for v in value.values())
        return many and (name in self.table.types or singular(name) != name)

    def _map(self, value: dict[str, Any], name: str) -> Part:
        item_type = self.table.types.get(name) or singular(name)

        def items() -> list[Part]:
            return [self._object(v, item_type, k, k) for k, v in value.items()]

        return Part("list", name, name, value, {}, items, ordered=False, through=True)

    def _list(self, value: list[Any], name: str, label: str) -> Part:
        item_type = self.table.types.get(name) or singular(name)
        if item_type == name and item_type not in self.table.types.values():
            item_type = "item"

        def items() -> Sequence[Part]:
            if set(map(type, value)) == {dict}:
                return Items(item_type, value, lambda v: _ObjectPart(self, v, item_type, None, item_type))
            return [self._item(v, item_type) for v in value]

        kept_type = name if self.table.cosmetic_type(name) else "list"
        ordered = not self.table.is_unordered(item_type)
        return Part(kept_type, label, name, value, {}, items, ordered=ordered, through=True)

    def _item(self, value: Any, item_type: str) -> Part:
        if isinstance(value, dict):
            return _ObjectPart(self, value, item_type, None, item_type)
        if isinstance(value, list):
            part = self._list(value, item_type, item_type)
            part.key, part.type, part.through = None, item_type, False
            return part
        # In a set a value is its own identity.
        identity = ("value",) if self.table.is_unordered(item_type) else ()
        return Part(
            item_type, str(value)[:_MAX_LABEL], None, value, {"value": value}, ordered=False, identity_fields=identity
        )


class XmlShape:
    """Parts of an XML tree: attributes and single text-only children are fields, other elements are parts."""

    def __init__(self, table: KindTable) -> None:
        self._table = table

    def root(self, tree: Element, kind: str) -> Part:
        """The root part; its key is empty because nothing stands beside it."""
        part = self.part(tree)
        part.key, part.type = "", kind
        part.fields["element"] = tree.name
        return part

    def part(self, element: Element) -> Part:
        """The part of any element."""
        left_out = self._table.is_left_out
        part_type = self._table.types.get(element.name, element.name)
        # Several elements may be parts of one type: then which of them it is is a field of its own.
        fields: dict[str, Scalar] = {"element": element.name} if part_type != element.name else {}
        given = ((name.rpartition("}")[2].rpartition(":")[2], value) for name, value in element.attributes.items())
        fields.update({name: value for name, value in given if not left_out(name)})
        if element.text:
            fields["text"] = element.text
        nested: list[Element] = []
        for name, group in _by_name(element.children).items():
            if left_out(name):
                continue
            if len(group) == 1 and name not in fields and _is_leaf(group[0]) and name not in self._table.types:
                fields[name] = group[0].text
            else:
                nested.extend(group)
        return Part(
            part_type,
            label_of({k: v for k, v in fields.items() if k != "element"}, element.name),
            None,
            element,
            fields,
            lambda: [self.part(e) for e in nested],
            ordered=not self._table.is_unordered(part_type),
            identity_fields=self._table.identity_of(part_type),
        )


def _by_name(elements: tuple[Element, ...]) -> dict[str, list[Element]]:
    groups: dict[str, list[Element]] = {}
    for element in elements:
        groups.setdefault(element.name, []).append(element)
    return groups


def _is_leaf(element: Element) -> bool:
    return not element.attributes and not element.children and element.tag != "#text"
