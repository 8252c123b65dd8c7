"""Identity of list items nobody declared: which fields tell one item from another, on both sides at once."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import combinations
from operator import itemgetter
from typing import Any

from everyshelf.core.outline.identities import is_id_like
from everyshelf.core.outline.model import Items, Part

_NOT_IDENTITY_OVERLAP = 0.5
_REGENERATED_OVERLAP = 0.1
_MAX_PAIR_FIELDS = 6
_LONGEST_KEY = 200
# Names that mean nothing but identity: if all their values are new, they were regenerated; a title would be a change.
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
    lists = _Lists(before, after)
    if declared and lists.are_unique(declared):
        return Identity(declared)
    anew = _regenerated(before, after, lists, [(f,) for f in lists.shared_fields(_PURE_IDS)])
    if anew is not None:
        return Identity((), anew)
    whole = _kept_by_all(lists)
    if whole is not None:
        return Identity((whole,))
    candidates = [(f,) for f in lists.shared_fields()]
    found = _best(lists, candidates)
    if found is None:
        names = [f for (f,) in candidates][:_MAX_PAIR_FIELDS]
        found = _best(lists, list(combinations(names, 2)))
    if found is None:
        return Identity()
    return Identity(found)


class _Lists:
    """The values of two lists of items, column by column, each looked up once."""

    _sides: tuple[list[dict[str, Any]], ...]

    def __init__(self, before: Sequence[Part], after: Sequence[Part]) -> None:
        self._first = before[0] if before else after[0] if after else None
        self._sides = tuple(_raws(side) for side in (before, after))
        self._columns: dict[str, tuple[list[object], list[object]]] = {}
        self._keys: dict[tuple[str, ...], tuple[set[object], set[object]] | None] = {}

    def column(self, name: str) -> tuple[list[object], list[object]]:
        if name not in self._columns:
            one, other = (_column(side, name) for side in self._sides)
            self._columns[name] = (one, other)
        return self._columns[name]

    def names(self) -> list[str]:
        """Names of the scalars of the first item."""
        if self._first is None:
            return []
        known = self._first.fields
        return [name for name in _raw(self._first) if name in known]

    def shared_fields(self, wanted: Sequence[str] | None = None) -> list[str]:
        """Names of scalars (of ``wanted`` ones) that every item has and that may tell items apart."""
        names = [n for n in self.names() if wanted is None or n in wanted]
        return [name for name in names if _can_identify(*self.column(name))]

    def keys(self, fields: tuple[str, ...]) -> tuple[set[object], set[object]] | None:
        """The keys under ``fields`` of both sides, as texts; None if an item lacks one or two items share theirs."""
        if fields not in self._keys:
            self._keys[fields] = self._found_keys(fields)
        return self._keys[fields]

    def _found_keys(self, fields: tuple[str, ...]) -> tuple[set[object], set[object]] | None:
        found: list[set[object]] = []
        for side in (0, 1):
            columns = [self.column(name)[side] for name in fields]
            if any(None in column for column in columns):
                return None
            texts = [column if set(map(type, column)) == {str} else list(map(str, column)) for column in columns]
            unique: set[object] = set(texts[0]) if len(texts) == 1 else set(zip(*texts, strict=True))
            if len(unique) != len(columns[0]):
                return None
            found.append(unique)
        return found[0], found[1]

    def are_unique(self, fields: tuple[str, ...]) -> bool:
        return self.keys(fields) is not None

    def overlap(self, fields: tuple[str, ...]) -> float:
        keys = self.keys(fields)
        assert keys is not None
        return len(keys[0] & keys[1]) / max(1, min(len(keys[0]), len(keys[1])))


def _column(values: list[dict[str, Any]], name: str) -> list[object]:
    try:
        return list(map(itemgetter(name), values))
    except KeyError:
        return [v.get(name) for v in values]


def _kept_by_all(lists: _Lists) -> str | None:
    """The id-like field that no other candidate can outdo, found without looking at the others: all keys are kept."""
    ranked = sorted((rank, place, n) for place, n in enumerate(lists.names()) if (rank := is_id_like(n)) is not None)
    for _, _, name in ranked:
        if lists.shared_fields((name,)) and lists.are_unique((name,)) and lists.overlap((name,)) == 1.0:
            return name
    return None


def _regenerated(
    before: Sequence[Part], after: Sequence[Part], lists: _Lists, candidates: Sequence[tuple[str, ...]]
) -> tuple[str, ...] | None:
    """The id field all of whose values are new over contents that are not."""
    if min(len(before), len(after)) < 2:
        return None
    for fields in candidates:
        if fields[0] not in _PURE_IDS or not lists.are_unique(fields):
            continue
        if lists.overlap(fields) < _REGENERATED_OVERLAP and _contents_overlap(before, after, fields):
            return fields
    return None


def key_of(part: Part, fields: tuple[str, ...]) -> str:
    """The item's key under ``fields``."""
    raw = _raw(part)
    return str(raw.get(fields[0])) if len(fields) == 1 else ",".join(str(raw.get(f)) for f in fields)


def keys_of(parts: Sequence[Part], fields: tuple[str, ...]) -> list[str]:
    """As ``key_of`` for each: of a long list at a fraction of the time."""
    if len(fields) != 1:
        return [key_of(part, fields) for part in parts]
    name = fields[0]
    values = [raw.get(name) for raw in _raws(parts)]
    return values if set(map(type, values)) == {str} else list(map(str, values))  # type: ignore[return-value]


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


def _raws(parts: Sequence[Part]) -> list[dict[str, Any]]:
    """As ``_raw`` for each."""
    if isinstance(parts, Items):
        return parts.values
    return [v if type(v := p.value) is dict else p.fields for p in parts]


def _can_identify(before: list[object], after: list[object]) -> bool:
    kinds = set(map(type, before)) | set(map(type, after))
    if not kinds <= {str, int} or "" in before or "" in after:
        return False
    if str not in kinds:
        return True
    texts = (before, after) if int not in kinds else ([v for v in s if type(v) is str] for s in (before, after))
    return all(max(map(len, side), default=0) <= _LONGEST_KEY for side in texts)  # type: ignore[arg-type]


def _best(lists: _Lists, candidates: Sequence[tuple[str, ...]]) -> tuple[str, ...] | None:
    scored = []
    for place, fields in enumerate(candidates):
        if not lists.are_unique(fields):
            continue
        ranks = [is_id_like(f) for f in fields]
        overlap = lists.overlap(fields)
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
