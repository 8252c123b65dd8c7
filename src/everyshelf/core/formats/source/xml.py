"""XML 1.0 taken apart through expat: elements with their attributes and children, and what stands between.

An element is two groups: its attributes (opening ``<tag``) and its children (opening ``>``, closing ``</tag>``; or
``/>`` and nothing). Text among children is an item named ``#text``. Entities are refused, nothing outside is read.
"""

from __future__ import annotations

import re
from typing import Any
from xml.parsers import expat
from xml.sax.saxutils import unescape

import numpy as np

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.source.model import Group, Item, Node, last_line
from everyshelf.core.formats.text import decode
from everyshelf.core.formats.xml import Element

_ATTRIBUTE = re.compile(r"(\s+)([^\s=/>]+)(\s*=\s*)(\"[^\"]*\"|'[^']*')")
_BETWEEN = re.compile(r"<!--.*?-->|<\?.*?\?>|<!\[CDATA\[.*?\]\]>|[^<]+", re.DOTALL)
_ENTITIES = {"&quot;": '"', "&apos;": "'"}
_CHARACTER = re.compile(r"&#(x[0-9a-fA-F]+|\d+);")
_LIMIT_DEPTH = 250
_DECLARED = re.compile(rb"<\?xml[^>]*encoding\s*=\s*[\"']([\w.:-]+)[\"']")


def xml_source(data: bytes) -> tuple[Node, str, str]:
    """The root, and what stands before and behind it; raises ``UnreadableError``."""
    text = _text(data)
    start, end, root = _Reader(text).read()
    return root, text[:start], text[end:]


def xml_encoding(data: bytes) -> str:
    """The encoding the text is written in."""
    declared = _DECLARED.match(data[:200])
    found = decode(data)
    if declared is not None and not found.mark:
        return declared[1].decode("ascii")
    return found.encoding


def _text(data: bytes) -> str:
    try:
        found = decode(data)
        return found.text if found.mark else data.decode(xml_encoding(data))
    except (LookupError, UnicodeDecodeError) as error:
        raise UnreadableError(f"its text is not in the encoding it declares: {error}") from error


class _Open:
    __slots__ = ("children", "start")

    def __init__(self, start: int) -> None:
        self.start = start
        self.children: list[tuple[int, int, Node]] = []


class _Reader:
    """One pass of the parser; elements become nodes as they end."""

    def __init__(self, text: str) -> None:
        self._text = text
        self._data = text.encode("utf-8", "surrogatepass")
        self._wide = None if text.isascii() else self._characters()
        self._stack: list[_Open] = []
        self._found: tuple[int, int, Node] | None = None

    def _characters(self) -> Any:
        """For each byte, how many characters begin before it."""
        array = np.frombuffer(self._data, dtype=np.uint8)
        begins = (array & 0xC0) != 0x80
        return np.concatenate([[0], np.cumsum(begins)])

    def _place(self, byte: int) -> int:
        return byte if self._wide is None else int(self._wide[byte])

    def read(self) -> tuple[int, int, Node]:
        parser = expat.ParserCreate("utf-8")
        parser.buffer_text = True

        def start(_name: str, _attributes: dict[str, str]) -> None:
            if len(self._stack) > _LIMIT_DEPTH:
                raise UnreadableError(f"line {parser.CurrentLineNumber}: nested over {_LIMIT_DEPTH} levels deep")
            self._stack.append(_Open(self._place(parser.CurrentByteIndex)))

        def end(_name: str) -> None:
            self._end(self._stack.pop(), self._place(parser.CurrentByteIndex))

        def entity(*_: Any) -> None:
            raise UnreadableError("it declares entities, which are never expanded here")

        parser.StartElementHandler, parser.EndElementHandler, parser.EntityDeclHandler = start, end, entity
        try:
            parser.Parse(self._data, True)
        except expat.ExpatError as error:
            raise UnreadableError(f"line {error.lineno}: {expat.errors.messages[error.code]}") from error
        assert self._found is not None
        return self._found

    def _end(self, element: _Open, closing: int) -> None:
        text, start = self._text, element.start
        at = start + 1
        while text[at] not in " \t\r\n/>":
            at += 1
        tag = text[start + 1 : at]
        attributes: list[Item] = []
        values: dict[str, str] = {}
        while (match := _ATTRIBUTE.match(text, at)) is not None:
            name, value = match[2], _plain(match[4][1:-1])
            attributes.append(Item(name, Node(match[4], value), match[1], name + match[3]))
            values[name] = value
            at = match.end()
        tag_end = text.index(">", at) + 1
        empty = text[tag_end - 2] == "/"
        stop = tag_end if empty else text.index(">", closing) + 1
        before = text[at : tag_end - (2 if empty else 1)]
        first = Group("map", text[start : start + 1 + len(tag)], before, "", attributes)
        if empty:
            second = Group("list", "/>", "", "", [])
        else:
            second = self._children(element, tag_end, closing, text[closing:stop])
        said, below = _value_of(second.items)
        node = Node(text[start:stop], Element(tag, values, said, below), "element", "block", lambda: [first, second])
        if self._stack:
            self._stack[-1].children.append((start, stop, node))
        else:
            self._found = (start, stop, node)

    def _children(self, element: _Open, start: int, closing: int, end_tag: str) -> Group:
        items: list[Item] = []
        lead, at, indent = "", start, None
        for low, high, node in [*element.children, (closing, closing, None)]:
            lead = self._between(items, lead, at, low)
            if node is not None:
                tag = node.value.tag
                if indent is None:
                    indent = last_line(lead)
                items.append(Item(tag, node, lead))
                lead = ""
            at = high
        return Group("list", ">", lead + end_tag, "", items, indent)

    def _between(self, items: list[Item], lead: str, start: int, end: int) -> str:
        """Texts among the children become items; gives what leads to the next child."""
        if start == end:
            return lead
        held = ""  # text that goes on over several pieces, a CDATA section and what stands beside it
        for match in _BETWEEN.finditer(self._text, start, end):
            piece = match[0]
            is_text = piece.startswith("<![CDATA[") or (piece[0] != "<" and not piece.isspace())
            if is_text or (held and piece.isspace() and match.end() < end and self._text[match.end()] != "<"):
                held += piece
                continue
            lead = self._flush(items, lead, held) + piece
            held = ""
        return self._flush(items, lead, held)

    @staticmethod
    def _flush(items: list[Item], lead: str, held: str) -> str:
        if not held:
            return lead
        bare = held.strip()
        begin = held.index(bare)
        items.append(Item("#text", Node(bare, text_of(bare)), lead + held[:begin]))
        return held[begin + len(bare) :]


def _value_of(items: Any) -> tuple[str, tuple[Element, ...]]:
    """An element's text before its first child, and its children with the texts between them."""
    said, below = "", []
    for place, item in enumerate(items):
        if item.name != "#text":
            below.append(item.node.value)
        elif place == 0:
            said = item.node.value
        else:
            below.append(Element("#text", {}, item.node.value, ()))
    return said, tuple(below)


def text_of(written: str) -> str:
    """What a piece of text among elements means: references resolved, CDATA taken off."""
    if "<![CDATA[" not in written:
        return _plain(written)
    out, at = [], 0
    for match in re.finditer(r"<!\[CDATA\[(.*?)\]\]>", written, re.DOTALL):
        out += [_plain(written[at : match.start()]), match[1]]
        at = match.end()
    return "".join([*out, _plain(written[at:])])


def _plain(written: str) -> str:
    if "&" not in written:
        return written
    found = _CHARACTER.sub(lambda m: chr(int(m[1][1:], 16) if m[1][0] == "x" else int(m[1])), written)
    return unescape(found, _ENTITIES)
