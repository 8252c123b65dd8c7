"""Reading a file into an outline: recognise, parse, shape."""

from __future__ import annotations

import tomllib
from dataclasses import replace
from typing import Any

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.json import parse_json
from everyshelf.core.formats.settings import parse_env, parse_ini, parse_properties
from everyshelf.core.formats.text import decode
from everyshelf.core.formats.xml import parse_xml
from everyshelf.core.formats.yaml import parse_yaml
from everyshelf.core.kinds.bpmn import LAYOUT_ELEMENTS, MIRROR_ELEMENTS
from everyshelf.core.kinds.recognise import HEAD_BYTES, Recognition, recognise
from everyshelf.core.kinds.registry import BYTES_FORMATS, kind_for, recognised_by_others
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.kinds.shapes import DataShape, XmlShape
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.outline.model import Outline

_WHOLE_BYTES = 4 * 1024 * 1024


def recognise_file(
    name: str, data: bytes, rules: Rules, kind: str | None = None, *, size: int | None = None
) -> Recognition:
    """What ``data`` is: ``kind`` if given, else what the rules declare, else what the content says.

    ``size``: bytes of the whole file where ``data`` is only its beginning.
    """
    whole = len(data) if size is None else size
    head = data[:_WHOLE_BYTES] if whole <= _WHOLE_BYTES else data[:HEAD_BYTES]
    found = recognised_by_others(name, head) or recognise(name, head, whole)
    declared = kind or rules.kind_for(name)
    if declared is None or declared == found.kind:
        return found
    return replace(found, kind=declared, note=f"declared as {declared}; the content looks like {found.kind}")


def parse_tree(data: bytes, found: Recognition) -> Any:
    """What the format's parser gives: a tree, an XML element, or a text; raises ``UnreadableError``."""
    if found.tree is not None:
        return found.tree
    if found.format in BYTES_FORMATS:
        if found.format not in kind_for(found.kind).readers:
            raise UnreadableError("")
        return data
    if found.format == "xml":
        return parse_xml(data, LAYOUT_ELEMENTS, MIRROR_ELEMENTS) if found.kind == "workflow" else parse_xml(data)
    if found.format in _PARSERS:
        return _PARSERS[found.format](data)
    if found.format in kind_for(found.kind).readers:
        return decode(data).unified
    if found.kind in ("opaque", "script", "report"):
        raise UnreadableError("")  # compared by lines or as bytes in earnest
    form = found.format or "a form nobody knows"
    raise UnreadableError(f"no reader takes {found.kind} as {form}")


def table_in_force(found: Recognition, rules: Rules, name: str) -> KindTable:
    """The kind's table with what the rules say about this file."""
    return rules.applied(kind_for(found.kind).table, name)


def shape_tree(tree: Any, found: Recognition, table: KindTable) -> Outline:
    """The outline of what a parser gave; raises ``UnreadableError`` where the kind cannot make sense of it."""
    reader = kind_for(found.kind).readers.get(found.format)
    if reader is not None:
        root = reader(tree, table)
    elif found.format == "xml":
        root = XmlShape(table).root(tree, found.kind)
    else:
        root = DataShape(table).root(tree, found.kind)
    return Outline(found.kind, found.format, root, found.note)


def read_outline(name: str, data: bytes, found: Recognition, rules: Rules) -> Outline:
    """The outline of ``data``; raises ``UnreadableError`` where its format has none or it cannot be read."""
    return shape_tree(parse_tree(data, found), found, table_in_force(found, rules, name))


def _parse_lines(data: bytes) -> Any:
    """JSON lines as one list."""
    found = []
    for number, line in enumerate(decode(data).lines(), 1):
        if line.strip():
            try:
                found.append(parse_json(line.encode()))
            except UnreadableError as error:
                raise UnreadableError(f"line {number}: {error}") from error
    return found


def _parse_toml(data: bytes) -> Any:
    try:
        return tomllib.loads(decode(data).unified)
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        raise UnreadableError(str(error)) from error


_PARSERS = {
    "json": parse_json,
    "jsonl": _parse_lines,
    "yaml": parse_yaml,
    "toml": _parse_toml,
    "ini": parse_ini,
    "env": parse_env,
    "properties": parse_properties,
}
