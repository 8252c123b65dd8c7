"""Regenerated ids: all ids new, all content old. What has the same type, content and neighbours is the same thing.

Signatures are refined over the references between things, as in colour refinement of graphs (Weisfeiler and Lehman,
"The reduction of a graph to canonical form and the algebra which appears therein", 1968): a thing's signature takes in
those of what it refers to, of what refers to it, and of what holds it.
"""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

from everyshelf.core.formats.xml import Element

_ID_NAMES = ("id", "@id", "key", "uid", "uuid")
_LOOSE = frozenset({"x", "y", "width", "height", "position", "name", "label", "title"})
_ROUNDS = 3
_LEAST_IDS = 3
_MOST_KEPT = 0.5
_LEAST_MATCHED = 0.5
# Ids as programs make them: hexadecimal groups, a word with a number or a mixed code behind it (Activity_0x1f2a, n12).
_MADE = re.compile(
    r"(?i)(?:sid-)?[0-9a-f]{6,}(?:[-.][0-9a-f]{2,})*|(?:[a-z]+[-_])+(?=[a-z]*\d)[0-9a-z]{6,}|[a-z]?_?\d+"
)


@dataclass
class _Thing:
    id: str
    type: str
    holder: int | None
    texts: list[tuple[str, str]] = field(default_factory=list)
    uses: list[tuple[str, int]] = field(default_factory=list)
    used_by: list[tuple[str, int]] = field(default_factory=list)


def realigned(before: Any, after: Any) -> tuple[Any, int]:
    """``after`` with regenerated ids replaced by the old ones, and how many were; itself and 0 if ids were kept."""
    mapping = regenerated_ids(before, after)
    return (rewritten(after, mapping), len(mapping)) if mapping else (after, 0)


def regenerated_ids(before: Any, after: Any) -> dict[str, str]:
    """New id -> old id of equal things.

    Where most ids are new, all are matched. Where only a few are, only ids that a program makes are matched: all ids in
    XML; elsewhere those that look generated, since people rename their steps.
    """
    gone, come = _ids_that_differ(before, after)
    if not gone or not come:
        return {}
    old, new = _things(before), _things(after)
    ids_old, ids_new = {t.id for t in old}, {t.id for t in new}
    kept = ids_old & ids_new
    least = min(len(ids_old), len(ids_new))
    if least - len(kept) >= _LEAST_IDS and len(kept) <= _MOST_KEPT * least:
        mapping = _matched(old, new, kept, named_too=True)
        return mapping if len(mapping) >= _LEAST_MATCHED * (least - len(kept)) else {}
    if not isinstance(after, Element):
        gone, come = ({i for i in ids if _MADE.fullmatch(i)} for ids in (gone, come))
    if not gone or not come:
        return {}
    mapping = _matched(old, new, kept, named_too=False)
    return {now: former for now, former in mapping.items() if now in come and former in gone}


def _ids_that_differ(before: Any, after: Any) -> tuple[set[str], set[str]]:
    """Ids that only one version has, found where the two differ: nearly always there are none."""
    gone: set[str] = set()
    come: set[str] = set()
    waiting = [(before, after)]
    while waiting:
        old, new = waiting.pop()
        if old is new or old == new:
            continue
        pairs, left_old, left_new = _matched_children(old, new)
        if pairs is None:
            left_old, left_new = [old], [new]
        else:
            gone |= _own_ids(old) - _own_ids(new)
            come |= _own_ids(new) - _own_ids(old)
            waiting += pairs
        gone.update(*map(_ids, left_old))
        come.update(*map(_ids, left_new))
    return gone - come, come - gone


def _matched_children(old: Any, new: Any) -> tuple[list[tuple[Any, Any]] | None, list[Any], list[Any]]:
    """Children of both by key, by id, else by place; None where the two cannot be compared by their children."""
    if isinstance(old, Element) and isinstance(new, Element):
        if not all(type(c) is Element for side in (old, new) for c in side.children[:1]):
            return [], [], []  # nothing but drawing
        sides = [_by_identity(e.children, lambda c: (c.tag, c.attributes.get("id"))) for e in (old, new)]
    elif isinstance(old, dict) and isinstance(new, dict):
        sides = [{k: v for k, v in d.items() if type(v) is dict or type(v) is list} for d in (old, new)]
    elif isinstance(old, list) and isinstance(new, list):
        sides = [_by_identity(values, lambda v: next(iter(sorted(_own_ids(v))), None)) for values in (old, new)]
    else:
        return None, [], []
    one, other = sides
    pairs = [(value, other[key]) for key, value in one.items() if key in other]
    return pairs, [v for k, v in one.items() if k not in other], [v for k, v in other.items() if k not in one]


def _by_identity(values: Sequence[Any], identity: Callable[[Any], Any]) -> dict[Any, Any]:
    """Values by identity and how often that stood before."""
    seen: Counter[Any] = Counter()
    found = {}
    for value in values:
        key = identity(value)
        found[key, seen[key]] = value
        seen[key] += 1
    return found


def _own_ids(value: Any) -> set[str]:
    if type(value) is Element:
        return {value.attributes["id"]} if "id" in value.attributes else set()
    if isinstance(value, dict):
        return {value[n] for n in _ID_NAMES if isinstance(value.get(n), str)}
    return set()


def _ids(tree: Any) -> set[str]:
    """All ids in a tree."""
    found: set[str] = set()
    waiting = [tree]
    while waiting:
        value = waiting.pop()
        found |= _own_ids(value)
        if type(value) is Element:
            if value.children and type(value.children[0]) is Element:
                waiting.extend(value.children)
        elif isinstance(value, dict):
            waiting.extend(v for v in value.values() if type(v) is dict or type(v) is list)
        elif isinstance(value, list):
            waiting.extend(value)
    return found


def _things(tree: Any) -> list[_Thing]:
    """Everything with an id of its own, with the texts and references that lie below it and in nothing else's."""
    found: list[_Thing] = []
    loose: list[tuple[int, str, str]] = []
    walker = (
        _walk_xml(tree, None, "", found, loose) if isinstance(tree, Element) else _walk(tree, None, "", found, loose)
    )
    for _ in walker:
        pass
    place = {t.id: k for k, t in enumerate(found)}
    for owner, name, text in loose:
        target = place.get(text)
        if target is None:
            found[owner].texts.append((name, text))
        elif target != owner:
            found[owner].uses.append((name, target))
            found[target].used_by.append((name, owner))
    return found


def _walk(value: Any, holder: int | None, name: str, found: list[_Thing], loose: list[Any]) -> Iterator[None]:
    if isinstance(value, dict):
        identity = next((n for n in _ID_NAMES if isinstance(value.get(n), str)), None)
        if identity is not None:
            found.append(_Thing(value[identity], name, holder))
            holder, name = len(found) - 1, ""
        for key, child in value.items():
            if key != identity:
                yield from _walk(child, holder, f"{name}/{key}", found, loose)
    elif isinstance(value, list):
        for child in value:
            yield from _walk(child, holder, name, found, loose)
    elif holder is not None:
        loose.append((holder, name, str(value)))
    yield


def _walk_xml(root: Element, holder: int | None, name: str, found: list[_Thing], loose: list[Any]) -> Iterator[None]:
    waiting: list[tuple[Any, int | None, str]] = [(root, holder, name)]
    while waiting:
        (tag, attributes, text, children), owner, path = waiting.pop()
        local = tag.rpartition("}")[2]
        path = f"{path}/{local}"
        if "id" in attributes:
            found.append(_Thing(attributes["id"], local, owner))
            owner, path = len(found) - 1, ""
        if owner is not None:
            loose += [(owner, f"{path}@{n}", v) for n, v in attributes.items() if n != "id"]
            if text:
                loose.append((owner, path, text))
        if children and not isinstance(children[0], Element):
            continue  # nothing but drawing
        waiting += [(child, owner, path) for child in children]
    yield


def _matched(old: list[_Thing], new: list[_Thing], kept: set[str], *, named_too: bool) -> dict[str, str]:
    """New id -> old id; the most telling signatures first, equal ones in the order of the document.

    ``named_too``: neighbours alone also match what has another name.
    """
    mapping: dict[str, str] = {}
    taken_old = {k for k, t in enumerate(old) if t.id in kept}
    taken_new = {k for k, t in enumerate(new) if t.id in kept}
    levels: list[tuple[Sequence[int | None], Sequence[int | None]]]
    levels = list(zip(_signatures(old, kept), _signatures(new, kept), strict=True))
    for one, other in [*reversed(levels), (_by_name(old), _by_name(new))]:
        groups: dict[int, tuple[list[int], list[int]]] = defaultdict(lambda: ([], []))
        for k, signature in enumerate(one):
            if k not in taken_old and signature is not None:
                groups[signature][0].append(k)
        for k, signature in enumerate(other):
            if k not in taken_new and signature is not None:
                groups[signature][1].append(k)
        for a, b in groups.values():
            if len(a) != len(b):
                continue
            for i, j in zip(a, b, strict=True):
                mapping[new[j].id] = old[i].id
                taken_old.add(i)
                taken_new.add(j)
    known = {**mapping, **{identity: identity for identity in kept}}
    _by_neighbours(old, new, known, taken_old, taken_new, named_too=named_too)
    return {anew: former for anew, former in known.items() if anew not in kept}


def _by_name(things: list[_Thing]) -> list[int | None]:
    return [hash((t.type, name)) if (name := _name_of(t)) else None for t in things]


def _name_of(thing: _Thing) -> str | None:
    return next(
        (text for name, text in thing.texts if name.rpartition("/")[2].rpartition("@")[2] in ("name", "label")), None
    )


def _signatures(things: list[_Thing], kept: set[str]) -> Iterator[list[int]]:
    """One list of signatures a round, from content alone to content and neighbourhood; a kept id says enough."""
    current = [
        hash((t.type, t.id)) if t.id in kept else hash((t.type, tuple(sorted(x for x in t.texts if _tells(x[0])))))
        for t in things
    ]
    yield [s if things[k].texts else hash((s, "bare")) for k, s in enumerate(current)]
    for _ in range(_ROUNDS):
        current = [
            hash(
                (
                    current[k],
                    tuple(sorted((n, current[o]) for n, o in t.uses)),
                    tuple(sorted((n, current[o]) for n, o in t.used_by)),
                    current[t.holder] if t.holder is not None else 0,
                )
            )
            for k, t in enumerate(things)
        ]
        yield current


def _tells(name: str) -> bool:
    last = name.rpartition("/")[2].rpartition("@")[2]
    return last not in _LOOSE or last in ("name", "label", "title")


def _by_neighbours(
    old: list[_Thing],
    new: list[_Thing],
    mapping: dict[str, str],
    taken_old: set[int],
    taken_new: set[int],
    *,
    named_too: bool,
) -> None:
    """What is left and joined to the same known neighbours in the same way is the same thing, changed."""
    places = {t.id: k for k, t in enumerate(old)}
    for j, thing in enumerate(new):
        if j in taken_new or (not named_too and _name_of(thing) is not None):
            continue
        wanted = {(n, mapping[new[o].id]) for n, o in thing.uses if new[o].id in mapping}
        wanted_by = {(n, mapping[new[o].id]) for n, o in thing.used_by if new[o].id in mapping}
        if not wanted and not wanted_by:
            continue
        near = {places[i] for _, i in wanted | wanted_by}
        for i in {k for p in near for k in [*(o for _, o in old[p].uses), *(o for _, o in old[p].used_by)]} - taken_old:
            uses, used_by = {(n, old[o].id) for n, o in old[i].uses}, {(n, old[o].id) for n, o in old[i].used_by}
            may_be = named_too or _name_of(old[i]) is None
            if may_be and old[i].type == thing.type and wanted <= uses and wanted_by <= used_by:
                mapping[thing.id] = old[i].id
                taken_old.add(i)
                taken_new.add(j)
                break


def rewritten(value: Any, mapping: dict[str, str]) -> Any:
    """``value`` with every text that is an id of the mapping replaced."""
    if isinstance(value, tuple):
        tag, attributes, text, children = value
        attributes = {n: mapping.get(v, v) for n, v in attributes.items()}
        below = tuple(rewritten(c, mapping) for c in children)
        text = str(mapping.get(text, text))
        return Element(tag, attributes, text, below) if isinstance(value, Element) else (tag, attributes, text, below)
    if isinstance(value, dict):
        return {mapping.get(k, k): rewritten(v, mapping) for k, v in value.items()}
    if isinstance(value, list):
        return [rewritten(v, mapping) for v in value]
    return mapping.get(value, value) if isinstance(value, str) else value
