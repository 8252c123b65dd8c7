"""Where every value of a JSON or YAML text, and every element of an XML text, stands: what unfolding cuts out.

Positions are in characters of the text.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from json.decoder import scanstring  # type: ignore[attr-defined]
from typing import Any
from xml.parsers import expat

import yaml

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.yaml_depth import check_depth

_BLANK = re.compile(r"[ \t\r\n]*")
_PLAIN = re.compile(r"-?\d[\d.eE+-]*|true|false|null|NaN|-?Infinity")
_BEHIND = re.compile(r"(?:\s*\n[ \t]*#[^\n]*)+\Z")
_MOST_DEPTH = 200


@dataclass(slots=True)
class Spot:
    """A value and where it stands. ``items`` are (name or None, spot) of a map's members or a list's items."""

    start: int
    end: int
    text: str | None = None
    items: list[tuple[str | None, Spot]] = field(default_factory=list)
    is_list: bool = False

    def named(self, *names: str) -> str | None:
        """The first of these members that is a text."""
        found = {n: s.text for n, s in self.items if n in names}
        return next((found[n] for n in names if found.get(n)), None)


def json_spots(text: str) -> Spot:
    """The root of a JSON text; raises ``UnreadableError`` where it is none."""
    try:
        spot, end = _json(text, _skip(text, 1 if text.startswith("\ufeff") else 0), 0)
    except (IndexError, ValueError) as error:
        raise UnreadableError(f"no JSON: {error}") from error
    if _skip(text, end) != len(text):
        raise UnreadableError("there is more behind the end of the JSON")
    return spot


def _skip(text: str, at: int) -> int:
    match = _BLANK.match(text, at)
    assert match is not None
    return match.end()


def _json(text: str, at: int, depth: int) -> tuple[Spot, int]:
    if depth > _MOST_DEPTH:
        raise UnreadableError(f"nested over {_MOST_DEPTH} levels deep")
    sign = text[at]
    if sign == '"':
        value, end = scanstring(text, at + 1, False)
        return Spot(at, end, value), end
    if sign not in "{[":
        match = _PLAIN.match(text, at)
        if match is None:
            raise ValueError(f"nothing known at character {at}")
        return Spot(at, match.end()), match.end()
    spot = Spot(at, at, is_list=sign == "[")
    close, place = ("]" if spot.is_list else "}"), _skip(text, at + 1)
    while text[place] != close:
        name: str | None = None
        if not spot.is_list:
            name, place = scanstring(text, place + 1, False)
            place = _skip(text, place)
            if text[place] != ":":
                raise ValueError(f"no colon at character {place}")
            place = _skip(text, place + 1)
        child, place = _json(text, place, depth + 1)
        spot.items.append((name, child))
        place = _skip(text, place)
        if text[place] == ",":
            place = _skip(text, place + 1)
        elif text[place] != close:
            raise ValueError(f"neither a comma nor an end at character {place}")
    spot.end = place + 1
    return spot, spot.end


def yaml_spots(text: str) -> Spot:
    """The root of a YAML text with one document; raises ``UnreadableError`` where it is none."""
    check_depth(text)
    try:
        # The slower loader counts characters, whatever the text holds.
        node = yaml.compose(text, Loader=yaml.SafeLoader)
    except (yaml.YAMLError, RecursionError, ValueError) as error:
        raise UnreadableError(f"no YAML of one document: {str(error).splitlines()[0]}") from error
    if node is None:
        raise UnreadableError("there is nothing in it")
    return _yaml(text, node, 0, {})


def _yaml(text: str, node: Any, depth: int, seen: dict[int, Spot]) -> Spot:
    if id(node) in seen or depth > _MOST_DEPTH:
        return Spot(0, 0)  # an alias: what it stands for is cut where it is written
    start, end = node.start_mark.index, node.end_mark.index
    # A block ends where the next begins: comments and blank lines between belong to neither.
    said = text[start:end].rstrip()
    end = start + len(said if isinstance(node, yaml.ScalarNode) else _BEHIND.sub("", said))
    spot = seen[id(node)] = Spot(start, end, is_list=isinstance(node, yaml.SequenceNode))
    if isinstance(node, yaml.ScalarNode):
        spot.text = node.value if node.tag == "tag:yaml.org,2002:str" else None
    elif isinstance(node, yaml.MappingNode):
        spot.items = [(str(k.value), _yaml(text, v, depth + 1, seen)) for k, v in node.value]
    else:
        spot.items = [(None, _yaml(text, v, depth + 1, seen)) for v in node.value]
    return spot


@dataclass(slots=True)
class Tagged:
    """An XML element and where it stands, with its attributes and the span of what is between its tags."""

    name: str
    attributes: dict[str, str]
    start: int
    end: int = 0
    inner: tuple[int, int] = (0, 0)
    children: list[Tagged] = field(default_factory=list)

    def walk(self) -> Iterator[Tagged]:
        """This and everything below."""
        yield self
        for child in self.children:
            yield from child.walk()


def xml_spots(data: bytes) -> Tagged:
    """The root element of UTF-8 XML, positions in bytes; entities are refused, nothing outside is read."""
    parser = expat.ParserCreate()
    found: list[Tagged] = []
    stack: list[Tagged] = []

    def start(name: str, attributes: dict[str, str]) -> None:
        element = Tagged(name, attributes, parser.CurrentByteIndex)
        (stack[-1].children if stack else found).append(element)
        stack.append(element)
        if len(stack) > _MOST_DEPTH:
            raise UnreadableError(f"nested over {_MOST_DEPTH} levels deep")

    def end(_: str) -> None:
        element = stack.pop()
        closing = parser.CurrentByteIndex
        opened = _tag_end(data, element.start)
        closed_itself = data[opened - 2 : opened] == b"/>"
        element.end = opened if closed_itself else data.index(b">", closing) + 1
        element.inner = (opened, opened if closed_itself else closing)

    def entity(*_: Any) -> None:
        raise UnreadableError("it declares entities, which are never expanded here")

    parser.StartElementHandler, parser.EndElementHandler, parser.EntityDeclHandler = start, end, entity
    try:
        parser.Parse(data, True)
    except expat.ExpatError as error:
        raise UnreadableError(f"line {error.lineno}: {expat.errors.messages[error.code]}") from error
    return found[0]


_QUOTED_OR_END = re.compile(rb"\"[^\"]*\"|'[^']*'|>")


def _tag_end(data: bytes, start: int) -> int:
    """Behind the start tag's end; a ``>`` inside a quoted attribute is none."""
    for match in _QUOTED_OR_END.finditer(data, start):
        if match[0] == b">":
            return match.end()
    return start
