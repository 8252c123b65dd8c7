"""YAML 1.2 taken apart: the composer says where every node stands, the rest (dashes, colons, comments) is read here.

A stream is a list of its documents. An alias is a scalar whose value is its own text: what it stands for is merged
where that is written.
"""

from __future__ import annotations

import re
from bisect import bisect_right
from typing import Any

import yaml

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.source.model import Group, Item, Node
from everyshelf.core.formats.text import decode
from everyshelf.core.formats.yaml import scalar_value
from everyshelf.core.formats.yaml_depth import check_depth

_Loader = getattr(yaml, "CLoader", yaml.Loader)
_BREAKS = re.compile(r"\r\n|[\n\r\x85\u2028\u2029]")
_TAIL = re.compile(r"[ \t]*(?:[ \t]#[^\r\n]*)?(?=[\r\n]|\Z)")
_GAP = re.compile(r"(?:[ \t]*(?:#[^\r\n]*)?\r?\n)*[ \t]*")
_ALIAS = re.compile(r"\*[^\s,\[\]{}]+")
_DASH = re.compile(r"-(?=\s|\Z)[ \t]*")
_FIRST_LINE = re.compile(r"\n( *)[^ \r\n]")
_LIMIT_DEPTH = 200


class Alias(str):
    """The value of an alias: ``*name``, which is another value than a text that looks so."""

    __slots__ = ()


def yaml_source(data: bytes) -> tuple[Node, str, str]:
    """The root, and what stands before and behind it; raises ``UnreadableError``."""
    text = decode(data).text
    return _Reader(text).root()


class _Reader:
    def __init__(self, text: str) -> None:
        self._text = text
        self._lines = [0, *(m.end() for m in _BREAKS.finditer(text))]
        self._seen: set[int] = set()
        self._ends: dict[int, int] = {}  # of nodes, by id
        self._starts = 0  # of the item read last

    def root(self) -> tuple[Node, str, str]:
        documents = []
        check_depth(self._text)
        loader = _Loader(self._text)
        try:
            while loader.check_node():
                documents.append(loader.get_node())
        except (yaml.YAMLError, ValueError, RecursionError) as error:
            raise UnreadableError(f"not readable as YAML: {str(error).splitlines()[0]}") from error
        finally:
            loader.dispose()
        if not documents:
            raise UnreadableError("there is nothing in it")
        if len(documents) == 1:
            node, start, end = self._node(documents[0], 0, flow=False)
            return node, self._text[:start], self._text[end:]
        items, at = [], 0
        for document in documents:
            self._seen = set()
            node, start, end = self._node(document, 0, flow=False)
            items.append(Item(None, node, self._text[at:start], "", tail := self._tail(end, flow=False)))
            at = end + len(tail)
        whole = self._text[:at]
        values = [i.node.value for i in items]
        return Node(whole, values, "list", "block", lambda: [Group("list", "", "", "", items, "")]), "", self._text[at:]

    def _place(self, mark: Any) -> int:
        line: int = min(mark.line, len(self._lines) - 1)
        return self._lines[line] + int(mark.column)

    def _node(self, node: Any, depth: int, *, flow: bool, after: int = 0) -> tuple[Node, int, int]:
        """The node, where it starts and ends; ``after``: what stands before it ends there."""
        if depth > _LIMIT_DEPTH:
            raise UnreadableError(f"nested over {_LIMIT_DEPTH} levels deep")
        text = self._text
        start = self._place(node.start_mark)
        if id(node) in self._seen or start < after:
            return self._alias_or_nothing(node, after)
        self._seen.add(id(node))
        if isinstance(node, yaml.ScalarNode):
            end = self._scalar_end(node, start)
            if end == start and after:
                return Node("", None), after, after
            return Node(text[start:end], scalar_value(node)), start, end
        is_flow = bool(node.flow_style)
        # An anchor or tag stands before the collection; both are part of its opening.
        group = (self._map if isinstance(node, yaml.MappingNode) else self._list)(node, depth, start, is_flow)
        if is_flow:
            end = self._place(node.end_mark)
        else:
            last = group.items[-1]
            end = self._ends[id(last.node)] + len(last.tail)
        shape: Any = "map" if group.kind == "map" else "list"
        if is_flow:
            self._close_flow(group, end)
        value: Any = (
            {i.name: i.node.value for i in group.items} if shape == "map" else [i.node.value for i in group.items]
        )
        return Node(text[start:end], value, shape, "flow" if is_flow else "block", lambda: [group]), start, end

    def _alias_or_nothing(self, node: Any, after: int) -> tuple[Node, int, int]:
        gap = _GAP.match(self._text, after)
        assert gap is not None
        alias = _ALIAS.match(self._text, gap.end())
        if alias is None:
            if isinstance(node, yaml.ScalarNode) and not node.value:
                return Node("", None), after, after
            raise UnreadableError(f"line {node.start_mark.line + 1}: an alias that is not written as one")
        return Node(alias[0], Alias(alias[0])), alias.start(), alias.end()

    def _scalar_end(self, node: Any, start: int) -> int:
        end = self._place(node.end_mark)
        if node.style in ("|", ">"):
            said = self._text[start:end]
            header = said.partition("\n")[0]
            kept = "+" in header
            first = _FIRST_LINE.search(said)
            # A line of more blanks than the indentation is content.
            below = re.compile(rf"(?:\r?\n[ ]{{0,{len(first[1]) if first else 0}}})+\Z")
            body = said.removesuffix("\n").removesuffix("\r") if kept else below.sub("", said)
            return start + max(len(body), len(header.rstrip()))
        return end

    def _tail(self, end: int, *, flow: bool) -> str:
        if flow:
            return ""
        match = _TAIL.match(self._text, end)
        return match[0] if match is not None else ""

    def _list(self, node: Any, depth: int, start: int, is_flow: bool) -> Group:
        text, items = self._text, []
        opening_end = self._opening_end(start, is_flow, "[", node.value)
        at = opening_end
        for child in node.value:
            lead_end = self._skip(at)
            head_end = lead_end
            if not is_flow:
                dash = _DASH.match(text, lead_end)
                if dash is None:
                    raise UnreadableError(f"line {child.start_mark.line + 1}: no dash where an item begins")
                head_end = dash.end()
            items.append(self._item(None, child, depth, at, lead_end, head_end, is_flow))
            at = self._behind(items[-1], is_flow)
        indent = None if is_flow else " " * self._column(self._starts)
        return Group("list", text[start:opening_end], "", "," if is_flow else "", items, indent)

    def _map(self, node: Any, depth: int, start: int, is_flow: bool) -> Group:
        text, items = self._text, []
        opening_end = self._opening_end(start, is_flow, "{", node.value)
        at = opening_end
        names: set[str] = set()
        for key, child in node.value:
            if not isinstance(key, yaml.ScalarNode) or text[self._place(key.start_mark)] == "?":
                raise UnreadableError(f"line {key.start_mark.line + 1}: a key that is not plain text")
            lead_end = self._place(key.start_mark)
            if lead_end < at or id(key) in self._seen:
                raise UnreadableError(f"line {key.start_mark.line + 1}: a key that is an alias")
            colon = text.find(":", self._place(key.end_mark))
            if colon < 0 or text[self._place(key.end_mark) : colon].strip():
                raise UnreadableError(f"line {key.start_mark.line + 1}: a key without colon")
            if key.value in names:
                raise UnreadableError(f"line {key.start_mark.line + 1}: the key “{key.value}” appears twice")
            names.add(key.value)
            items.append(self._item(key.value, child, depth, at, lead_end, colon + 1, is_flow))
            at = self._behind(items[-1], is_flow)
        indent = None if is_flow else " " * self._column(self._starts)
        return Group("map", text[start:opening_end], "", "," if is_flow else "", items, indent)

    def _item(
        self, name: str | None, child: Any, depth: int, at: int, lead_end: int, head_end: int, is_flow: bool
    ) -> Item:
        node, start, end = self._node(child, depth + 1, flow=is_flow, after=head_end)
        tail = self._tail(end, flow=is_flow)
        self._ends[id(node)] = end
        self._starts = lead_end
        return Item(name, node, self._text[at:lead_end], self._text[lead_end:start], tail)

    def _behind(self, item: Item, is_flow: bool) -> int:
        """Where the next item's lead begins: behind the comma in flow style."""
        end = self._ends[id(item.node)] + len(item.tail)
        if not is_flow:
            return end
        at = self._skip(end)
        if self._text[at : at + 1] == ",":
            item.tail = self._text[end:at]
            return at + 1
        return end

    def _skip(self, at: int) -> int:
        match = _GAP.match(self._text, at)
        assert match is not None
        return match.end()

    def _column(self, place: int) -> int:
        return place - self._lines[bisect_right(self._lines, place) - 1]

    def _opening_end(self, start: int, is_flow: bool, sign: str, children: Any) -> int:
        if is_flow:
            return self._text.index(sign, start) + 1
        if not children:
            raise UnreadableError("a block with nothing in it")
        first = children[0][0] if isinstance(children[0], tuple) else children[0]
        place = self._place(first.start_mark)
        if sign == "[":
            # The dash of the first item; an anchor or a tag may stand before it.
            if self._text[start : start + 1] == "-":
                return start
            match = re.compile(r"[&!][^\r\n]*?\r?\n[ \t]*(?:#[^\r\n]*\r?\n[ \t]*)*(?=-)").match(self._text, start)
            if match is None:
                raise UnreadableError("a list whose first dash is not found")
            return match.end()
        return place

    def _close_flow(self, group: Group, end: int) -> None:
        """What stands between the last item and the closing bracket, a comma too."""
        opened = end - 1
        if not group.items:
            group.closing = self._text[group_start(group, self._text, opened) : end]
            return
        last = group.items[-1]
        at = self._ends[id(last.node)]
        group.closing = self._text[at:end]
        last.tail = ""


def group_start(group: Group, text: str, opened: int) -> int:
    """Behind the opening bracket of a group without items that closes at ``opened``."""
    return text.rindex(group.opening[-1], 0, opened) + 1
