"""One change at a time in a file somebody published: every value, key, order, tag and attribute there is.

Made with general parsers alone, nothing of ours. A change is a whole new tree; ``mark`` is what only the new version
holds (or, for a removal, what only the old one does).
"""

from __future__ import annotations

import copy
import random
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from lxml import etree

MARK = "Zq7x"
Path = tuple[str | int, ...]


@dataclass(frozen=True)
class Change:
    """What was done (``value``, ``key``, ``removed``, ``order``, ``tag``, ``attribute``, ``text``) and where."""

    sort: str
    path: Path
    before: Any
    after: Any
    name: str  # of the nearest thing that has one
    # Of an order: "names" where the two have different names, "named" where an id tells them apart, "blank" where one is
    # an empty line; of a removal: "blank" for an empty line.
    detail: str = ""


def other_value(value: Any) -> Any:
    """A value of the same type that says something else."""
    if isinstance(value, bool):
        return not value
    if isinstance(value, int | float):
        return value + 7919
    return MARK if value is None else f"{value}{MARK}"


def _at(tree: Any, path: Path) -> Any:
    for step in path:
        tree = tree[step]
    return tree


def _named(path: Path) -> str:
    return next((s for s in reversed(path) if isinstance(s, str)), "")


def places_of_data(tree: Any, path: Path = ()) -> Iterator[tuple[str, Path]]:
    """Every place of a tree of dict, list and scalars where one thing can be changed."""
    if isinstance(tree, dict):
        for name, value in tree.items():
            yield "key", (*path, name)
            yield "removed", (*path, name)
            yield from places_of_data(value, (*path, name))
    elif isinstance(tree, list):
        for place, value in enumerate(tree):
            yield "removed", (*path, place)
            if place and value != tree[place - 1]:
                yield "order", (*path, place)
            yield from places_of_data(value, (*path, place))
    elif path:
        yield "value", path


def change_data(tree: Any, sort: str, path: Path) -> tuple[Any, Change]:
    """A copy of the tree with that one change."""
    new = copy.deepcopy(tree)
    holder: Any = _at(new, path[:-1])
    last: Any = path[-1]
    before = copy.deepcopy(holder[last])
    after: Any = None
    detail = ""
    if sort == "value":
        after = holder[last] = other_value(before)
    elif sort == "key":
        after = f"{last}{MARK}"
        items = [(after if k == last else k, v) for k, v in holder.items()]
        holder.clear()
        holder.update(items)
    elif sort == "removed":
        detail = "blank" if isinstance(before, str) and not before.strip() else ""
        del holder[last]
    else:
        detail = "blank" if any(isinstance(v, str) and not v.strip() for v in holder[last - 1 : last + 1]) else ""
        holder[last - 1], holder[last] = holder[last], holder[last - 1]
    return new, Change(sort, path, before, after, _named(path), detail)


def sample_of_data(tree: Any, rng: random.Random, most: int) -> Iterator[tuple[Any, Change]]:
    """At most so many changes of a tree, drawn from all."""
    places = list(places_of_data(tree))
    for sort, path in places if len(places) <= most else rng.sample(places, most):
        yield change_data(tree, sort, path)


def places_of_xml(root: Any) -> Iterator[tuple[str, int, str]]:
    """Every place of an XML tree: the sort of change, the number of the element in document order, a name."""
    for number, element in enumerate(root.iter(etree.Element)):
        yield "tag", number, ""
        if number:
            yield "removed", number, ""
            before = element.getprevious()
            if before is not None and isinstance(before.tag, str) and _said(before) != _said(element):
                yield "order", number, ""
        if (element.text or "").strip():
            yield "text", number, ""
        for name in element.attrib:
            yield "attribute", number, name
            yield "attribute removed", number, name


def _said(element: Any) -> bytes:
    tail, element.tail = element.tail, None
    said: bytes = etree.tostring(element)
    element.tail = tail
    return said


def _says_something(element: Any) -> bool:
    return any(set(e.attrib) - {"id"} or (e.text or "").strip() for e in element.iter(etree.Element))


def _without_prefix(name: str) -> str:
    return name.rpartition("}")[2]


def change_xml(root: Any, sort: str, number: int, name: str) -> tuple[Any, Change]:
    """A copy of the XML tree with that one change."""
    new = copy.deepcopy(root)
    element = next(e for k, e in enumerate(new.iter(etree.Element)) if k == number)
    tag = _without_prefix(element.tag)
    above = [_without_prefix(a.tag) for a in element.iterancestors()][::-1]
    path: Path = (*above, tag)
    before: Any = None
    after: Any = None
    detail = ""
    if sort == "tag":
        before, after = (tag if _says_something(element) else None), f"{tag}{MARK}"
        element.tag = f"{element.tag}{MARK}"
    elif sort == "removed":
        before = etree.tostring(element, with_tail=False) if _says_something(element) else None
        element.getparent().remove(element)
    elif sort == "order":
        other = element.getprevious()
        if other.tag != element.tag:
            detail = "names"
        elif any(other.get(n) != element.get(n) for n in ("id", "name", "key", "code")):
            detail = "named"
        element.getparent().insert(element.getparent().index(other), element)
    elif sort == "text":
        before = element.text
        after = element.text = _changed_text(element.text)
    elif sort == "attribute":
        before = element.get(name)
        after = _changed_text(before)
        element.set(name, after)
    else:
        before = element.get(name)
        del element.attrib[name]
    named = _without_prefix(name) if name else tag
    return new, Change(sort, (*path, named) if name else path, before, after, named, detail)


def _changed_text(text: str) -> str:
    bare = text.strip()
    if bare in ("true", "false"):
        return "false" if bare == "true" else "true"
    try:
        float(bare)
    except ValueError:
        return f"{text.rstrip()}{MARK}"
    return text.replace(bare, f"{bare}791" if "." in bare or bare.isdigit() else f"{bare}1")


def sample_of_xml(root: Any, rng: random.Random, most: int) -> Iterator[tuple[Any, Change]]:
    """At most so many changes of an XML tree, drawn from all."""
    places = list(places_of_xml(root))
    for sort, number, name in places if len(places) <= most else rng.sample(places, most):
        yield change_xml(root, sort, number, name)
