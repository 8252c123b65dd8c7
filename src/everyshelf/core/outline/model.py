"""Outline, Part and Finding.

A part is expanded lazily: ``value`` is the raw subtree it was read from, so a comparison decides equality of whole
subtrees in C and never builds the parts below what is equal.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any, Literal

Scalar = str | int | float | bool | Decimal | None
Effect = Literal["breaks", "alters", "cosmetic"]
Step = Literal["added", "removed", "changed", "moved", "renamed", "reordered"]
EFFECTS: tuple[Effect, ...] = ("breaks", "alters", "cosmetic")
ACTIONS: tuple[Step, ...] = ("added", "removed", "changed", "moved", "renamed", "reordered")


def _no_children() -> Sequence[Part]:
    return []


@dataclass(slots=True)
class Part:
    """One thing an artifact is made of.

    ``key`` is its identity among siblings of its type (None: to be found by comparing), ``fields`` its scalars,
    ``ordered`` whether the order of its children is content. ``through`` marks a mere list: its items' paths leave it
    out. ``identity_fields``: what is known to identify it among its siblings; empty if that is to be found, None if
    nothing does and only content and order tell. ``sequence`` marks a part that is no list but whose children stand in
    an order that is content.
    """

    type: str
    label: str
    key: str | None
    value: Any
    fields: dict[str, Scalar] = field(default_factory=dict)
    expand: Callable[[], Sequence[Part]] = _no_children
    ordered: bool = True
    through: bool = False
    sequence: bool = False
    identity_fields: tuple[str, ...] | None = ()

    def children(self) -> Sequence[Part]:
        """The parts directly below, built anew at each call."""
        return self.expand()


class Items(Sequence[Part]):
    """Items of one list that are objects of one type; each becomes a part when somebody asks for it.

    Of a list of a hundred thousand records that differs in ten, ten are built.
    """

    def __init__(self, part_type: str, values: list[dict[str, Any]], make: Callable[[dict[str, Any]], Part]) -> None:
        self.type = part_type
        self.values = values
        self._make = make
        self._made: dict[int, Part] = {}

    def with_values(self, values: list[dict[str, Any]]) -> Items:
        """Items made in the same way from other values."""
        return Items(self.type, values, self._make)

    def __len__(self) -> int:
        return len(self.values)

    def __getitem__(self, place: Any) -> Any:
        if isinstance(place, slice):
            return [self[k] for k in range(*place.indices(len(self.values)))]
        made = self._made.get(place)
        if made is None:
            made = self._made[place] = self._make(self.values[place])
        return made


def values_of(parts: Sequence[Part]) -> list[Any]:
    """The raw subtrees of parts, without building what is not built."""
    return parts.values if isinstance(parts, Items) else [p.value for p in parts]


@dataclass(frozen=True)
class Outline:
    """What a file was read as: its kind, its format, its root part, and a note if something deserves one."""

    kind: str
    format: str
    root: Part
    note: str = ""


@dataclass(frozen=True)
class Finding:
    """One semantic difference: an action on a part (or one of its fields), before, after, and its effect."""

    action: Step
    part: str
    type: str
    label: str
    effect: Effect | None  # None: nobody could judge it
    field: str | None = None
    before: Any = None
    after: Any = None
    detail: str = ""
    within: str = ""
    """The part it lies in, by type and label ("class Harbour"); empty for parts of the artifact itself."""


def plain(value: Any) -> Any:
    """``value`` as JSON can hold it: decimals, non-finite and very long numbers become texts."""
    if isinstance(value, Decimal) or (isinstance(value, float) and (value != value or abs(value) == float("inf"))):
        return str(value)
    if isinstance(value, int) and not isinstance(value, bool) and abs(value) >= 2**63:
        return str(value)
    return value


def walk(part: Part, path: str = "") -> Iterator[tuple[str, Part]]:
    """Path and part of everything below ``part``, depth first, with positions where no key is known."""
    for place, child in enumerate(part.children(), 1):
        here = child_path(path, child, child.key or f"#{place}")
        yield here, child
        yield from walk(child, path if child.through else here)


def child_path(base: str, part: Part, key: str) -> str:
    """``base/type:key``; a slash inside a type or a key is written as %2F so that the path can be split."""
    return f"{base}/{part.type.replace('/', '%2F')}:{key.replace('/', '%2F')}"
