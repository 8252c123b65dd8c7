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
    if declared is None:
        return Identity()
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
    raw = _raw(part)
    return str(raw.get(fields[0])) if len(fields) == 1 else ",".join(str(raw.get(f)) for f in fields)


def field_that_holds(keys: set[str], items: Sequence[Part]) -> str | None:
    """The field whose values are at least half of ``keys``, each once; id-like names first."""
    found = []
    for name in items[0].fields:
        values = [str(_raw(p).get(name)) for p in items]
        shared = len(keys & set(values))
        if len(set(values)) == len(values) and shared * 2 >= min(len(keys), len(values)):
            rank = is_id_like(name)
            found.append((rank is None, -shared, rank or 0, name))
    return min(found)[3] if found else None


def _raw(part: Part) -> dict[str, object]:
    """The part's scalars among other values; an object is not asked for its fields, which would build them."""
    return part.value if type(part.value) is dict else part.fields  # type: ignore[return-value]


def _shared_fields(before: Sequence[Part], after: Sequence[Part]) -> list[str]:
    items = [_raw(p) for p in (*before, *after)]
    if not items:
        return []
    derived = set(items[0]) - set(before[0].fields if before else after[0].fields)
    return [name for name in items[0] if name not in derived and _can_identify([v.get(name) for v in items])]


def _can_identify(column: list[object]) -> bool:
    kinds = set(map(type, column))
    if not kinds <= {str, int} or "" in column:
        return False
    return str not in kinds or all(len(value) <= 200 for value in column if type(value) is str)


def _keys(parts: Sequence[Part], fields: tuple[str, ...]) -> list[object]:
    if len(fields) == 1:
        name = fields[0]
        return [_raw(p).get(name) for p in parts]
    return [tuple(_raw(p).get(f) for f in fields) for p in parts]


def _unique(parts: Sequence[Part], fields: tuple[str, ...]) -> bool:
    keys = _keys(parts, fields)
    if len(fields) > 1 and any(None in k for k in keys):  # type: ignore[operator]
        return False
    return None not in keys and len(set(map(str, keys))) == len(keys)


def _overlap(before: Sequence[Part], after: Sequence[Part], fields: tuple[str, ...]) -> float:
    a, b = (set(map(str, _keys(side, fields))) for side in (before, after))
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
