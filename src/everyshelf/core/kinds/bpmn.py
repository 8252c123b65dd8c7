"""Workflows in BPMN 2.0 (OMG formal/2011-01-03), read for meaning.

Diagram interchange is kept apart, lists that mirror the connections are left out, a step knows its lane, an event what
it waits for, a connection its ends and condition; what vendors add becomes fields.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from functools import cached_property

from everyshelf.core.formats.xml import Element, local_name
from everyshelf.core.kinds.shapes import XmlShape
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.outline.model import Part, Scalar

# Subtrees that hold nothing but drawing: compared as one.
LAYOUT_ELEMENTS = ("}BPMNDiagram", "}DMNDI", "}DMNDiagram")
# Lists of a step's connections, which the connections say already.
MIRROR_ELEMENTS = ("}incoming", "}outgoing")
_HOLDERS = {"process", "subProcess", "transaction", "adHocSubProcess", "collaboration", "participant", "laneSet"}
_HOLDS_LANES = _HOLDERS | {"lane", "childLaneSet"}
_GIVEN_IDS = frozenset({"id"})


def read_bpmn(root: Element, table: KindTable) -> Part:
    """The root part of a ``definitions`` element; steps, events, gateways and connections keyed by their ids."""
    return _Reader(table, root).root(root)


def _flow_elements(element: Element) -> list[Element]:
    found, waiting = [], [element]
    while waiting:
        for child in waiting.pop().children:
            if "id" in child.attributes:
                found.append(child)
            if child.name in _HOLDERS:
                waiting.append(child)
    return found


def _name(element: Element) -> str:
    return element.attributes.get("name") or element.attributes.get("id") or element.name


def _lanes_of(root: Element) -> dict[str, str]:
    """Step id -> name of the innermost lane that lists it."""
    found: dict[str, str] = {}
    waiting = [root]
    while waiting:
        element = waiting.pop()
        for child in element.children:
            name = local_name(child.tag)
            if name == "lane":
                found.update({ref.text: _name(child) for ref in child.children if ref.name == "flowNodeRef"})
            if name in _HOLDS_LANES:
                waiting.append(child)
    return found


class _FlowPart(Part):
    """One element of a process; worked out only if it differs from its other version."""

    __slots__ = ("_element", "_fields", "_reader")

    def __init__(self, reader: _Reader, element: Element, part_type: str, identity_fields: tuple[str, ...]) -> None:
        identity = element.attributes.get("id")
        lane = reader.lanes.get(identity or "") if reader.lanes else None
        self.type, self.key = part_type, identity
        self.value = element._replace(attributes={**element.attributes, "lane": lane}) if lane else element
        self.expand = lambda: reader.below(element)
        self.ordered = self.through = self.sequence = False
        self.identity_fields = identity_fields
        self._reader, self._element = reader, element
        self._fields: dict[str, Scalar] | None = None

    @property
    def label(self) -> str:  # type: ignore[override]
        return self._reader.label(self._element)

    @property
    def fields(self) -> dict[str, Scalar]:  # type: ignore[override]
        if self._fields is None:
            self._fields = self._reader.fields(self.value)
        return self._fields


class _Reader:
    def __init__(self, table: KindTable, root: Element) -> None:
        self.table = table
        self.lanes = _lanes_of(root)
        self._root = root
        self._shape = XmlShape(table)
        self._places: dict[str, str] = {}
        self._types: dict[str, tuple[str, tuple[str, ...]]] = {}

    @cached_property
    def _names(self) -> dict[str, str]:
        return {e.attributes["id"]: _name(e) for e in _flow_elements(self._root)}

    def root(self, element: Element) -> Part:
        part = self._part(element)
        part.key, part.type = "", "workflow"
        return part

    def _part(self, element: Element) -> Part:
        found = self._types.get(element.tag)
        if found is None:
            part_type = self.table.types.get(element.name, element.name)
            found = self._types[element.tag] = part_type, self.table.identity_of(part_type)
        return _FlowPart(self, element, *found)

    def label(self, element: Element) -> str:
        given = element.attributes
        if "sourceRef" in given and "targetRef" in given:
            ends = (self._names.get(given[end], given[end]) for end in ("sourceRef", "targetRef"))
            return " → ".join(ends)
        return given.get("name") or given.get("id") or element.name

    def fields(self, element: Element) -> dict[str, Scalar]:
        """Attributes, what an event waits for, a condition, single texts, and what a vendor adds."""
        left_out = self.table.is_left_out
        found: dict[str, Scalar] = {}
        if self.table.types.get(element.name, element.name) != element.name or element is self._root:
            found["element"] = element.name
        for name, value in element.attributes.items():
            local = local_name(name)
            if local not in _GIVEN_IDS and not left_out(local):
                found["from" if local == "sourceRef" else "to" if local == "targetRef" else local] = value
        if element.text:
            found["text"] = element.text
        for child in _told_as_fields(element):
            name = child.name
            if left_out(name):
                continue
            if name == "extensionElements":
                for extension in _told_as_fields(child):
                    found.update(_flattened(extension))
            elif name.endswith("EventDefinition"):
                found.update(_waited_for(child))
            elif name == "conditionExpression":
                found.update(_condition(child))
            else:
                found[name] = child.text
        return found

    def below(self, element: Element) -> list[Part]:
        result: list[Part] = []
        places = self._places
        fields = {id(child) for child in _told_as_fields(element)}
        for child in element.children:
            place = places.get(child.tag) or self._place(child.tag)
            if place == "extensions":
                result.extend(self._extensions(child))
            elif place == "layout":
                result.append(Part("layout", "layout", child.name, child))
            elif place == "nothing" or id(child) in fields:
                continue
            elif place == "lanes" and not (child.attributes.keys() - _GIVEN_IDS):
                result.extend(self._part(lane) for lane in child.children)
            else:
                is_part = "id" in child.attributes or child.name in _HOLDERS
                result.append(self._part(child) if is_part and place != "event" else self._shape.part(child))
        return result

    def _extensions(self, holder: Element) -> Iterator[Part]:
        """What a vendor adds and fields cannot hold: what repeats, and what has parts of its own."""
        fields = {id(child) for child in _told_as_fields(holder)}
        names = Counter(child.tag for child in holder.children)
        for child in holder.children:
            if id(child) in fields:
                continue
            if child.children and not child.attributes and names[child.tag] == 1:
                yield self._list_of(child)  # it only holds others
            else:
                yield self._shape.part(child)

    def _list_of(self, holder: Element) -> Part:
        def items() -> list[Part]:
            return [self._shape.part(e) for e in holder.children]

        return Part("list", holder.name, holder.name, holder, {}, items, through=True, sequence=True)

    def _place(self, tag: str) -> str:
        """What an element of that tag is to the one around it; looked up once."""
        name = local_name(tag)
        if name == "extensionElements":
            place = "extensions"
        elif self.table.is_left_out(name):
            place = "nothing"
        elif name.endswith("EventDefinition"):
            place = "event"
        elif name == "laneSet":
            place = "lanes"
        else:
            place = "layout" if tag.endswith(LAYOUT_ELEMENTS) else "part"
        self._places[tag] = place
        return place


def is_text(element: Element) -> bool:
    """A child that is nothing but one text, such as a script, a documentation or an assignment."""
    return not element.children and bool(element.text) and not (element.attributes.keys() - _GIVEN_IDS)


def _is_typed_text(element: Element) -> bool:
    """A text whose only attribute is the type of the expression."""
    return not element.children and all(local_name(name) in ("id", "type") for name in element.attributes)


def _told_as_fields(element: Element) -> list[Element]:
    """The children that are fields of the element: each the only one of its name, with no parts of its own.

    What repeats, or holds more than a field can, is a part; what the events of a whole file define is, too.
    """
    names: Counter[str] = Counter()
    events = 0
    for child in element.children:
        names[child.name] += 1
        events += child.name.endswith("EventDefinition")
    is_extension = element.name == "extensionElements"
    found = []
    for child in element.children:
        name = child.name
        if names[name] > 1 and name not in ("incoming", "outgoing"):
            continue
        if name == "extensionElements":
            fits = not is_extension
        elif is_extension:
            fits = not child.children
        elif name.endswith("EventDefinition"):
            fits = events == 1 and element.name != "definitions" and all(map(_is_typed_text, child.children))
        elif name == "conditionExpression":
            fits = not child.children
        else:
            fits = is_text(child)
        if fits:
            found.append(child)
    return found


def _condition(condition: Element) -> dict[str, Scalar]:
    """The expression, and what its attributes say of it: its language, its type without the prefix."""
    found: dict[str, Scalar] = {"condition": condition.text}
    for name, value in condition.attributes.items():
        if local_name(name) not in _GIVEN_IDS:
            found[f"condition.{local_name(name)}"] = local_name(value) if local_name(name) == "type" else value
    return found


def _waited_for(definition: Element) -> dict[str, Scalar]:
    """What an event waits for or throws: its sort, what it refers to, and the texts inside (a date, a cycle)."""
    sort = definition.name.removesuffix("EventDefinition")
    found: dict[str, Scalar] = {"event": sort}
    for name, value in definition.attributes.items():
        if local_name(name) not in _GIVEN_IDS:
            found[f"{sort}.{local_name(name)}"] = value
    for child in definition.children:
        found[f"{sort}.{child.name}"] = child.text
    return found


def _flattened(extension: Element) -> dict[str, Scalar]:
    """A vendor's element as fields ``element.attribute``."""
    found: dict[str, Scalar] = {f"{extension.name}.{local_name(n)}": v for n, v in extension.attributes.items()}
    if extension.text or not extension.attributes:
        found[extension.name] = extension.text
    return found
