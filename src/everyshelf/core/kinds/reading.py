"""Reading a file into an outline: recognise, parse, shape."""

from __future__ import annotations

import tomllib
from typing import Any

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.json import parse_json
from everyshelf.core.formats.text import decode
from everyshelf.core.formats.xml import parse_xml
from everyshelf.core.formats.yaml import parse_yaml
from everyshelf.core.kinds.recognise import HEAD_BYTES, Recognition, recognise
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.kinds.shapes import DataShape, XmlShape
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.kinds.tables import table_for
from everyshelf.core.outline.model import Outline

_WHOLE_BYTES = 4 * 1024 * 1024
_OUTLINED = ("json", "yaml", "xml", "toml")


def recognise_file(name: str, data: bytes, rules: Rules, kind: str | None = None) -> Recognition:
    """What ``data`` is: ``kind`` if given, else what the rules declare, else what the content says."""
    found = recognise(name, data[:_WHOLE_BYTES] if len(data) <= _WHOLE_BYTES else data[:HEAD_BYTES], len(data))
    declared = kind or rules.kind_for(name)
    if declared is None or declared == found.kind:
        return found
    return Recognition(declared, found.format, f"declared as {declared}; the content looks like {found.kind}")


def read_outline(name: str, data: bytes, found: Recognition, rules: Rules) -> Outline:
    """The outline of ``data``; raises ``UnreadableError`` where its format has none or it cannot be read."""
    if found.format not in _OUTLINED:
        raise UnreadableError(f"a {found.kind} in this format has no outline yet" if found.kind != "opaque" else "")
    table = table_for(found.kind)
    if rules.ignored_fields:
        table = _with_ignored(table, rules.ignored_fields)
    if found.format == "xml":
        return Outline(found.kind, "xml", XmlShape(table).root(parse_xml(data), found.kind), found.note)
    tree = _TREES[found.format](data)
    if found.kind == "notebook":
        tree = _notebook(tree)
    return Outline(found.kind, found.format, DataShape(table).root(tree, found.kind), found.note)


def _with_ignored(table: KindTable, ignored: frozenset[str]) -> KindTable:
    from dataclasses import replace

    return replace(table, derived=table.derived | ignored)


def _parse_toml(data: bytes) -> Any:
    try:
        return tomllib.loads(decode(data).text)
    except tomllib.TOMLDecodeError as error:
        raise UnreadableError(str(error)) from error


def _notebook(tree: Any) -> Any:
    """Sources that are lists of lines become one text, as nbformat defines them to be the same."""
    if not isinstance(tree, dict) or not isinstance(tree.get("cells"), list):
        return tree
    return {**tree, "cells": [_cell(c) for c in tree["cells"]]}


def _cell(cell: Any) -> Any:
    if not isinstance(cell, dict) or not isinstance(cell.get("source"), list):
        return cell
    return {**cell, "source": "".join(str(line) for line in cell["source"])}


_TREES = {"json": parse_json, "yaml": parse_yaml, "toml": _parse_toml}
