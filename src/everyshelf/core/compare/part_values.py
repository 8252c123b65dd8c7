"""What a part is looked at by while outlines are compared: what it holds, in which form, its children by type."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from typing import Any

from everyshelf.core.outline.model import Items, Part

MOST_BRIEF = 8  # fields or values of an added or removed part that its finding shows


def held(part: Part) -> Any:
    """What a part without fields holds: the values of a plain list, else the names of what is in it."""
    value = part.value
    if isinstance(value, list) and not any(isinstance(v, dict | list | tuple) for v in value):
        return value[:MOST_BRIEF] + (["…"] if len(value) > MOST_BRIEF else []) or None
    names = [child.label for child in part.children()[: MOST_BRIEF + 1]]
    return {"holds": ", ".join([*names[:MOST_BRIEF], *(["…"] if len(names) > MOST_BRIEF else [])])} if names else None


def differs(field: str, before: Part, after: Part) -> bool:
    """True for a field that both have, with other values."""
    return field in before.fields and field in after.fields and before.fields[field] != after.fields[field]


def form(value: Any) -> str:
    """How a value is held: a list of named things and a map of them may mean the same."""
    return "object" if isinstance(value, dict) else "list" if isinstance(value, list) else "value"


def is_empty(value: Any) -> bool:
    """True for a map or a list without anything in it."""
    return isinstance(value, dict | list) and not value


def places_by_type(parts: Sequence[Part]) -> dict[str, list[int]]:
    """Where the children of each type are among all; of one type only, they are where they are."""
    if isinstance(parts, Items):
        return {}
    places: dict[str, list[int]] = defaultdict(list)
    for place, part in enumerate(parts):
        places[part.type].append(place)
    return places


def by_type(parts: Sequence[Part]) -> dict[str, Sequence[Part]]:
    """Children by their type, in order."""
    if isinstance(parts, Items):
        return {parts.type: parts} if parts else {}
    groups: dict[str, list[Part]] = {}
    for part in parts:
        groups.setdefault(part.type, []).append(part)
    return dict(groups)
