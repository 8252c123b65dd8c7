"""JSON (RFC 8259) taken apart.

Values come from the fast reader; where they stand is found through an index of the signs that give JSON its structure,
made for the whole text at once (the idea of Langdale and Lemire, "Parsing gigabytes of JSON per second", VLDB Journal
28, 2019, in array operations). Only what is looked into is taken apart.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.json import parse_json
from everyshelf.core.formats.source.model import Group, Item, Node, last_line
from everyshelf.core.formats.text import decode

_SIGNS = np.zeros(256, dtype=bool)
_SIGNS[[ord(c) for c in '[]{},:"']] = True
_STEPS = np.zeros(256, dtype=np.int8)
_STEPS[[ord("["), ord("{")]], _STEPS[[ord("]"), ord("}")]] = 1, -1
_OPEN = b"[{"
_FEW_SIGNS = 100  # below which a loop is faster than array operations
_COMMA, _COLON, _QUOTE, _BACKSLASH = ord(","), ord(":"), ord('"'), ord("\\")
_BLANKS = " \t\r\n"


def json_source(data: bytes, tree: Any = None) -> tuple[Node, str, str]:
    """The root, and what stands before and behind it; ``tree`` if it was read already. Raises ``UnreadableError``."""
    value = parse_json(data) if tree is None else tree
    text = decode(data).text
    start = len(text) - len(text.lstrip(_BLANKS))
    end = len(text.rstrip(_BLANKS))
    index = _Index(text)
    return index.node(start, end, value, 0, index.last), text[:start], text[end:]


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
        places = np.flatnonzero(_SIGNS[signs])
        found = signs[places]
        quotes = found == _QUOTE
        if "\\" in text:
            escaped = _escaped(np.flatnonzero(signs == _BACKSLASH))
            quotes &= ~np.isin(places, escaped)
            found = np.where((found == _QUOTE) & ~quotes, 0, found)
        outside = (np.cumsum(quotes, dtype=np.int32) & 1 == 0) & (found != _QUOTE) & (found != 0)
        self._places, self._signs = places[outside], found[outside]
        self._depths = np.cumsum(_STEPS[self._signs], dtype=np.int32)

    @property
    def last(self) -> int:
        """The number of the last sign."""
        return len(self._places) - 1

    def node(self, start: int, end: int, value: Any, first: int, last: int) -> Node:
        """A value that stands at ``start:end``, with the signs ``first`` to ``last`` in it."""
        kind = type(value)
        if kind is dict or kind is list:
            return _Container(self, start, end, value, first, last)
        return Node(self.text[start:end], value)

    def group(self, start: int, end: int, value: Any, kind: Any, first: int, last: int) -> Group:
        """What stands between two brackets, the signs ``first`` and ``last``."""
        text = self.text
        if not value:
            return Group(kind, text[start], text[start + 1 : end], ",")
        commas, colons, places = self._between(first, last)
        ends = [*(places(commas)), end - 1]
        starts = [start + 1, *(c + 1 for c in ends[:-1])]
        values, names = (list(value.values()), list(value)) if kind == "map" else (value, None)
        if len(values) != len(ends) or (names and len(colons) != len(ends)):
            raise UnreadableError("its members cannot be told apart")
        behind = places(colons)
        firsts = [c + 1 for c in colons] if names else [first + 1, *(c + 1 for c in commas)]
        lasts = [*(c - 1 for c in commas), last - 1]
        if kind == "list" and set(map(type, values)) <= {dict, list}:
            return self._of_containers(start, end, values, starts, ends, firsts, lasts)
        items: list[Item] = []
        stop, lead = start + 1, ""
        for low, high, one, since, until, name, colon in zip(
            starts, ends, values, firsts, lasts, names or values, behind or ends, strict=True
        ):
            begin, stop = low, high
            if lead and text.startswith(lead, low):
                begin += len(lead)
            while text[begin] in _BLANKS:
                begin += 1
            while text[stop - 1] in _BLANKS:
                stop -= 1
            if low + len(lead) != begin or not text.startswith(lead, low):
                lead = text[low:begin]
            at = begin
            if names:
                at = colon + 1
                while text[at] in _BLANKS:
                    at += 1
            node = self.node(at, stop, one, since, until)
            items.append(Item(name if names else None, node, lead, text[begin:at], text[stop:high]))
        items[-1].tail = ""  # what follows the last is the end of the group
        return Group(kind, text[start], text[stop:end], ",", items, last_line(items[-1].lead))

    def _of_containers(
        self,
        start: int,
        end: int,
        values: list[Any],
        starts: list[int],
        ends: list[int],
        firsts: list[int],
        lasts: list[int],
    ) -> Group:
        """A list of objects or lists: its signs alone tell where they stand."""
        text, items, stop = self.text, [], start + 1
        begins, closes = self._places[firsts].tolist(), self._places[lasts].tolist()
        for low, high, begin, close, one, first, last in zip(
            starts, ends, begins, closes, values, firsts, lasts, strict=True
        ):
            stop = close + 1
            node = _Container(self, begin, stop, one, first, last)
            items.append(Item(None, node, text[low:begin], "", text[stop:high]))
        items[-1].tail = ""
        return Group("list", text[start], text[stop:end], ",", items, last_line(items[-1].lead))

    def _between(self, first: int, last: int) -> tuple[list[int], list[int], Callable[[list[int]], list[int]]]:
        """The commas and colons of a container by their numbers, and what gives their places."""
        inner = slice(first + 1, last)
        if last - first > _FEW_SIGNS:
            here = self._depths[inner] == self._depths[first]
            signs = self._signs[inner]
            commas, colons = (
                (np.flatnonzero(here & (signs == sign)) + first + 1).tolist() for sign in (_COMMA, _COLON)
            )
            return commas, colons, lambda numbers: self._places[numbers].tolist() if numbers else []
        commas, colons, depth = [], [], 0
        for n, sign in enumerate(self._signs[inner].tobytes(), first + 1):
            if sign == _COMMA:
                if not depth:
                    commas.append(n)
            elif sign == _COLON:
                if not depth:
                    colons.append(n)
            else:
                depth += 1 if sign in _OPEN else -1
        found = self._places[inner].tolist()
        return commas, colons, lambda numbers: [found[n - first - 1] for n in numbers]


class _Container(Node):
    """An object or a list: taken apart when somebody asks what it holds."""

    __slots__ = ("_end", "_first", "_index", "_last", "_start")

    def __init__(self, index: _Index, start: int, end: int, value: Any, first: int, last: int) -> None:
        self.text, self.value, self.style = index.text[start:end], value, "flow"
        self.shape = "map" if type(value) is dict else "list"
        self._index, self._start, self._end, self._first, self._last = index, start, end, first, last
        self._groups = None

    @property
    def groups(self) -> list[Group]:
        if self._groups is None:
            span = (self._first, self._last)
            self._groups = [self._index.group(self._start, self._end, self.value, self.shape, *span)]
        return self._groups


def _escaped(slashes: Any) -> Any:
    """Places behind an odd run of backslashes."""
    starts = np.flatnonzero(np.diff(slashes, prepend=slashes[0] - 2) > 1)
    stops = np.append(starts[1:], slashes.size)
    odd = (stops - starts) % 2 == 1
    return slashes[stops - 1][odd] + 1
