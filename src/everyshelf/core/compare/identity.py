"""Identity of list items nobody declared: which fields tell one item from another, on both sides at once."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import combinations

from everyshelf.core.kinds.shapes import is_id_like
from everyshelf.core.outline.model import Part

_NOT_IDENTITY_OVERLAP = 0.5
_REGENERATED_OVERLAP = 0.1
_MAX_PAIR_FIELDS = 6
# Names that mean nothing but identity: if all their values are new, they were given anew; a title would be a change.
_PURE_IDS = ("id", "@id", "key", "uid", "uuid")


@dataclass(frozen=True)
class Identity:
    """The fields that identify items; empty for none. ``regenerated``: ids that are all new over old contents."""

    fields: tuple[str, ...] = ()
    regenerated: tuple[str, ...] = ()


def find_identity(before: Sequence[Part], after: Sequence[Part]) -> Identity:
    """The best identity of two lists of items of one type.

    Fields that are scalar, present and unique in both lists count. Id-like names come first, then the greatest overlap
    between both lists, then the earliest. If ids hardly overlap while contents do, they were regenerated.
    """
    declared = before[0].identity_fields if before else after[0].identity_fields if after else ()
    if declared and _unique(before, declared) and _unique(after, declared):
        return Identity(declared)
    candidates = [(f,) for f in _shared_fields(before, after)]
    anew = _regenerated(before, after, candidates)
    if anew is not None:
        return Identity((), anew)
    found = _best(before, after, candidates)
    if found is None:
        names = [f for (f,) in candidates][:_MAX_PAIR_FIELDS]
        found = _best(before, after, list(combinations(names, 2)))
    if found is None:
        return Identity()
    return Identity(found)


def _regenerated(
    before: Sequence[Part], after: Sequence[Part], candidates: Sequence[tuple[str, ...]]
) -> tuple[str, ...] | None:
    """The id field all of whose values are new over contents that are not."""
    if min(len(before), len(after)) < 2:
        return None
    for fields in candidates:
        if fields[0] not in _PURE_IDS or not (_unique(before, fields) and _unique(after, fields)):
            continue
        if _overlap(before, after, fields) < _REGENERATED_OVERLAP and _contents_overlap(before, after, fields):
            return fields
    return None


def key_of(part: Part, fields: tuple[str, ...]) -> str:
    """The item's key under ``fields``."""
    return ",".join(str(part.fields.get(f)) for f in fields)


def _shared_fields(before: Sequence[Part], after: Sequence[Part]) -> list[str]:
    items = [*before, *after]
    if not items:
        return []
    return [name for name in items[0].fields if all(name in p.fields and _can_identify(p.fields[name]) for p in items)]


def _can_identify(value: object) -> bool:
    return isinstance(value, str | int) and not isinstance(value, bool) and value != "" and len(str(value)) <= 200


def _unique(parts: Sequence[Part], fields: tuple[str, ...]) -> bool:
    keys = [tuple(p.fields.get(f) for f in fields) for p in parts]
    return all(None not in k for k in keys) and len(set(keys)) == len(keys)


def _overlap(before: Sequence[Part], after: Sequence[Part], fields: tuple[str, ...]) -> float:
    a, b = ({tuple(p.fields.get(f) for f in fields) for p in side} for side in (before, after))
    return len(a & b) / max(1, min(len(a), len(b)))


def _best(
    before: Sequence[Part], after: Sequence[Part], candidates: Sequence[tuple[str, ...]]
) -> tuple[str, ...] | None:
    scored = []
    for place, fields in enumerate(candidates):
        if not (_unique(before, fields) and _unique(after, fields)):
            continue
        ranks = [is_id_like(f) for f in fields]
        overlap = _overlap(before, after, fields)
        id_like = all(r is not None for r in ranks)
        # "x": 1, "x": 2, … is unique by chance; a name that says nothing must at least be kept by most items.
        if not id_like and (overlap < _NOT_IDENTITY_OVERLAP or fields == ("value",)):
            continue
        rank = sum(r for r in ranks if r is not None)
        scored.append(((0 if id_like and overlap > 0 else 1 if not id_like else 2, -overlap, rank, place), fields))
    return min(scored)[1] if scored else None


def _contents_overlap(before: Sequence[Part], after: Sequence[Part], ids: tuple[str, ...]) -> bool:
    a, b = ([frozenset((k, str(v)) for k, v in p.fields.items() if k not in ids) for p in s] for s in (before, after))
    if not any(a) or not any(b):
        return False
    shared = len(set(a) & set(b))
    return shared / max(1, min(len(set(a)), len(set(b)))) >= 0.5
