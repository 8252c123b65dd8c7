"""Where the values of a JSON, YAML or XML text stand: some are put otherwise, and nothing else moves."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from everyshelf.core.formats.source import Node
from everyshelf.core.formats.source.json import json_source
from everyshelf.core.formats.source.xml import xml_encoding, xml_source
from everyshelf.core.formats.source.yaml import yaml_source
from everyshelf.core.formats.text import decode, encoded_like
from everyshelf.core.merge.spelling import is_line_list

SOURCES = {"json": json_source, "yaml": yaml_source, "xml": xml_source}


@dataclass(frozen=True)
class Place:
    """A value in the text: where it stands, and the names and values around it that tell whose it is."""

    start: int
    end: int
    node: Node
    name: str
    around: tuple[str, ...]


class SourceText:
    """A text taken apart; raises ``UnreadableError``. ``tree`` is what a recogniser parsed of it, if it did."""

    def __init__(self, data: bytes, form: str, tree: Any = None) -> None:
        self._root, before, behind = json_source(data, tree) if form == "json" else SOURCES[form](data)
        self._before = len(before)
        self.text = before + self._root.text + behind
        self._decoded = decode(data)
        marked = form != "xml" or self._decoded.mark
        self._encoding = self._decoded.encoding if marked else xml_encoding(data)

    def places(self) -> Iterator[Place]:
        """Every value that holds no others, and every text that is written as a list of its lines; in order."""
        return _places(self._root, self._before, "", ())

    def spliced(self, said: Sequence[tuple[Place, str]]) -> bytes:
        """The text with these places, in order and apart from each other, spelled anew."""
        pieces, at = [], 0
        for place, spelling in said:
            pieces += [self.text[at : place.start], spelling]
            at = place.end
        return encoded_like("".join([*pieces, self.text[at:]]), self._decoded, self._encoding)


def value_of(node: Node) -> Any:
    """What a node says; a text that is written as a list of its lines says the text."""
    return "".join(node.value) if node.shape == "list" else node.value


def _places(node: Node, start: int, name: str, around: tuple[str, ...]) -> Iterator[Place]:
    """Every value that holds no others, and every list of lines, with what stands beside it and above."""
    lines = node.shape == "list" and bool(node.value) and is_line_list(node)
    if lines or not node.groups:
        yield Place(start, start + len(node.text), node, name, around)
    if not node.groups:
        return
    beside = [name, *(str(i.node.value) for g in node.groups for i in g.items if not i.node.groups)]
    here = (*around, *(text for text in beside if text and len(text) < 200))
    at = start
    for group in node.groups:
        at += len(group.opening)
        for k, item in enumerate(group.items):
            at += (len(group.separator) if k else 0) + len(item.lead) + len(item.head)
            yield from _places(item.node, at, item.name if item.name not in (None, "#text") else name, here)
            at += len(item.node.text) + len(item.tail)
        at += len(group.closing)
