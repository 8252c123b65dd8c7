"""JSON (RFC 8259) taken apart.

Values come from the fast reader; where they stand is found through an index of the signs that give JSON its structure,
made for the whole text at once (the idea of Langdale and Lemire, "Parsing gigabytes of JSON per second", VLDB Journal
28, 2019, in array operations). Only what is looked into is taken apart.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.json import parse_json
from everyshelf.core.formats.source.model import Group, Item, Node, last_line
from everyshelf.core.formats.text import decode

_SIGNS = np.zeros(256, dtype=bool)
_SIGNS[[ord(c) for c in "[]{},:"]] = True
_OPEN, _CLOSE = (ord("["), ord("{")), (ord("]"), ord("}"))
_COMMA, _COLON, _QUOTE, _BACKSLASH = ord(","), ord(":"), ord('"'), ord("\\")
_BLANKS = " \t\r\n"


def json_source(data: bytes, tree: Any = None) -> tuple[Node, str, str]:
    """The root, and what stands before and behind it; ``tree`` if it was read already. Raises ``UnreadableError``."""
    value = parse_json(data) if tree is None else tree
    text = decode(data).text
    start = len(text) - len(text.lstrip(_BLANKS))
    end = len(text.rstrip(_BLANKS))
    return _Index(text).node(start, end, value), text[:start], text[end:]


def json_lines_source(data: bytes) -> tuple[Node, str, str]:
    """A value a line, as a list of them; raises ``UnreadableError``."""
    text = decode(data).text
    body = text.rstrip(_BLANKS)
    items: list[Item] = []
    lead = ""
    for line in body.split("\n"):
        bare = line.strip(_BLANKS)
        begin = line.index(bare) if bare else len(line)
        lead += ("\n" if items or lead else "") + line[:begin]
        if not bare:
            continue
        node, _, _ = json_source(bare.encode("utf-8", "surrogatepass"))
        items.append(Item(None, node, lead, "", line[begin + len(bare) :]))
        lead = ""
    if not items:
        raise UnreadableError("there is no value in it")
    root = Node(body, [i.node.value for i in items], "list", "block", lambda: [Group("list", "", "", "", items)])
    return root, "", text[len(body) :]


class _Index:
    """Where the signs of structure stand outside of strings, and how deep."""

    def __init__(self, text: str) -> None:
        self.text = text
        if text.isascii():
            signs = np.frombuffer(text.encode("ascii"), dtype=np.uint8)
        else:
            wide = np.frombuffer(text.encode("utf-32-le", "surrogatepass"), dtype=np.uint32)
            signs = np.where(wide < 128, wide, 0).astype(np.uint8)
        quotes = np.flatnonzero(signs == _QUOTE)
        slashes = np.flatnonzero(signs == _BACKSLASH)
        if slashes.size:
            quotes = quotes[~np.isin(quotes, _escaped(slashes))]
        found = np.flatnonzero(_SIGNS[signs])
        self._places = found[np.searchsorted(quotes, found) % 2 == 0]
        self._signs = signs[self._places]
        steps = np.isin(self._signs, _OPEN).astype(np.int32) - np.isin(self._signs, _CLOSE)
        self._depths = np.cumsum(steps)

    def node(self, start: int, end: int, value: Any) -> Node:
        kind = type(value)
        if kind is dict or kind is list:
            return _Container(self, start, end, value)
        return Node(self.text[start:end], value)

    def group(self, start: int, end: int, value: Any, kind: Any) -> Group:
        """What stands between two brackets."""
        text = self.text
        first = int(np.searchsorted(self._places, start))
        last = int(np.searchsorted(self._places, end - 1))
        depth = self._depths[first]
        inner = slice(first + 1, last)
        here = self._depths[inner] == depth
        commas = self._places[inner][here & (self._signs[inner] == _COMMA)].tolist()
        ends = [*commas, end - 1]
        starts = [start + 1, *(c + 1 for c in commas)]
        if not value:
            return Group(kind, text[start], text[start + 1 : end], ",")
        values: list[Any]
        if kind == "map":
            colons = self._places[inner][here & (self._signs[inner] == _COLON)].tolist()
            values, names = list(value.values()), list(value)
        else:
            colons, values, names = [], value, []
        if len(values) != len(ends):
            raise UnreadableError("its members cannot be told apart")
        items = []
        stop, lead = start + 1, ""
        for k, (low, high) in enumerate(zip(starts, ends, strict=True)):
            begin, stop = low, high
            if lead and text.startswith(lead, low):
                begin += len(lead)
            while text[begin] in _BLANKS:
                begin += 1
            while text[stop - 1] in _BLANKS:
                stop -= 1
            lead = text[low:begin]
            at = begin
            if kind == "map":
                at = colons[k] + 1
                while text[at] in _BLANKS:
                    at += 1
            closing = text[stop:high] if k < len(values) - 1 else ""
            node = self.node(at, stop, values[k])
            items.append(Item(names[k] if names else None, node, lead, text[begin:at], closing))
        return Group(kind, text[start], text[stop:end], ",", items, last_line(items[-1].lead))


class _Container(Node):
    """An object or a list: taken apart when somebody asks what it holds."""

    __slots__ = ("_end", "_index", "_start")

    def __init__(self, index: _Index, start: int, end: int, value: Any) -> None:
        self.text, self.value, self.style = index.text[start:end], value, "flow"
        self.shape = "map" if type(value) is dict else "list"
        self._index, self._start, self._end = index, start, end
        self._groups = None

    @property
    def groups(self) -> list[Group]:
        if self._groups is None:
            self._groups = [self._index.group(self._start, self._end, self.value, self.shape)]
        return self._groups


def _escaped(slashes: Any) -> Any:
    """Places behind an odd run of backslashes."""
    starts = np.flatnonzero(np.diff(slashes, prepend=slashes[0] - 2) > 1)
    stops = np.append(starts[1:], slashes.size)
    odd = (stops - starts) % 2 == 1
    return slashes[stops - 1][odd] + 1
