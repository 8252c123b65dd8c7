"""What one side took out while the other side wrote something that refers to it."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from everyshelf.core.formats.source import Node
from everyshelf.core.merge.matching import Loose, Matching, leaves_of
from everyshelf.core.merge.policy import fields_of, is_named

_EXPRESSION = re.compile(r"\$\{[^}]*\}|\{\{.*?\}\}|\$\([^)]*\)")
_ID_FIELDS = ("id", "key", "code", "uid", "uuid", "name")


def still_referred(target: Matching, source: Matching, base: Node) -> dict[int, str]:
    """Base items, by id, that one side removed and the other side newly refers to; with what refers to them."""
    found: dict[int, str] = {}
    for gone, come in ((target, source), (source, target)):
        removed = [i for i in gone.removed if id(i.item) not in gone.moved and is_named(i.item.node)]
        if not removed or not (come.added or come.changed):
            continue
        new = list(_new_leaves(come))
        kept = {key for i in gone.added for key in _keys(i)}
        for loose in removed:
            for key in _keys(loose):
                naming = [(place, name) for place, name, value in new if _names(value, key)]
                if naming and key not in kept and (_is_used(base, loose, key) or _refers(base, naming[0][1])):
                    found[id(loose.item)] = naming[0][0]
                    break
    return found


def _keys(loose: Loose) -> Iterator[str]:
    fields = fields_of(loose.item.node.value)
    known = [loose.key, *(fields.get(n) for n in _ID_FIELDS)]
    yield from dict.fromkeys(str(k) for k in known if isinstance(k, str | int) and str(k))


def _new_leaves(side: Matching) -> Iterator[tuple[str, str, Any]]:
    """Where, under which name, and the value of everything that is new on a side."""
    for loose in side.added:
        for name, value in leaves_of(loose.item, loose.within):
            yield (
                (f"{loose.type} {loose.key}" if loose.key else loose.type) + (f", {name}" if name else ""),
                name,
                value,
            )
    for name, node in side.changed:
        if not node.groups:
            yield name, name, node.value


def _names(value: Any, key: str) -> bool:
    """True if a text is the key, or has it as one of its words where it is a path or an expression."""
    text = str(value)
    if text == key:
        return not isinstance(value, bool)
    if not isinstance(value, str) or key not in text:
        return False
    word = re.compile(rf"(?<![\w-]){re.escape(key)}(?![\w-])")
    if not re.search(r"\s", text):
        return word.search(text) is not None
    return any(word.search(m[0]) for m in _EXPRESSION.finditer(text))


def _is_used(base: Node, loose: Loose, key: str) -> bool:
    """True if the base refers to the item by that key somewhere outside of it: only then it is what a reference is."""
    waiting = [base]
    while waiting:
        for group in waiting.pop().groups:
            for item in group.items:
                if item is loose.item or key not in item.node.text:
                    continue
                if item.node.groups:
                    waiting.append(item.node)
                elif _names(item.node.value, key):
                    return True
    return False


def _refers(base: Node, name: str) -> bool:
    """True if values of that name are keys of other items already: what is new there is a reference, too."""
    if name in _ID_FIELDS:
        return False
    keys: set[str] = set()
    values: list[str] = []
    waiting: list[tuple[Node, str]] = [(base, "")]
    while waiting:
        node, within = waiting.pop()
        for group in node.groups:
            for item in group.items:
                here = item.name or within
                if item.node.groups:
                    fields = fields_of(item.node.value)
                    keys.update(str(fields[n]) for n in _ID_FIELDS if isinstance(fields.get(n), str))
                    if group.kind == "map" and item.node.shape == "map":
                        keys.add(here)
                    waiting.append((item.node, here))
                elif here == name and isinstance(item.node.value, str):
                    values.append(item.node.value)
    return any(v in keys or (not re.search(r"\s", v) and set(re.split(r"[/.#:]", v)) & keys) for v in values)
