"""Edits, which parts they touch, and pairs of them."""

from __future__ import annotations

import copy
import random
from collections.abc import Callable, Hashable
from dataclasses import dataclass
from typing import Any

Model = Any
Apply = Callable[[Model], None]


@dataclass(frozen=True)
class Edit:
    """One change of a model, with the names of what it touches: two edits with none in common do not overlap."""

    what: str
    touches: frozenset[Hashable]
    apply: Apply


def with_value(value: Any, change: Callable[[Model, Any], None]) -> Apply:
    """A change that writes this value."""
    return lambda model: change(model, value)


@dataclass(frozen=True)
class Format:
    """How a model is made, edited and written. ``same_field`` gives two edits of one field to different values."""

    name: str
    file: str
    make: Callable[[random.Random], Model]
    edit: Callable[[random.Random, Model, str], Edit]
    same_field: Callable[[random.Random, Model], tuple[Edit, Edit]]
    write: Callable[[Model], str]
    read: Callable[[str], Any]


@dataclass(frozen=True)
class Pair:
    """Base and both sides as files, and the file that has both edits; ``told`` says what was done."""

    file: str
    base: bytes
    target: bytes
    source: bytes
    both: bytes
    told: str


def disjoint(form: Format, seed: int) -> Pair:
    """Both sides do one to four things that do not overlap."""
    dice = random.Random(f"{form.name} {seed}")
    model = form.make(dice)
    edits: list[tuple[int, Edit]] = []
    touched: list[set[Hashable]] = [set(), set()]
    wanted = [dice.randint(1, 4), dice.randint(1, 4)]
    for side in (0, 1):
        tries = 0
        while sum(1 for s, _ in edits if s == side) < wanted[side] and tries < 200:
            tries += 1
            edit = form.edit(dice, model, "th"[side] + str(len(edits)))
            if edit.touches & (touched[0] | touched[1]):
                continue
            touched[side] |= edit.touches
            edits.append((side, edit))
    return _pair(form, model, edits)


def colliding(form: Format, seed: int) -> Pair:
    """Both sides give one field two values, and do something else besides."""
    dice = random.Random(f"{form.name} same {seed}")
    model = form.make(dice)
    on_target, on_source = form.same_field(dice, model)
    edits = [(0, on_target), (1, on_source)]
    touched = set(on_target.touches | on_source.touches)
    for side in (0, 1):
        for _ in range(20):
            edit = form.edit(dice, model, "th"[side] + "x")
            if not edit.touches & touched:
                touched |= edit.touches
                edits.append((side, edit))
                break
    return _pair(form, model, edits)


def _pair(form: Format, model: Model, edits: list[tuple[int, Edit]]) -> Pair:
    def written(sides: tuple[int, ...]) -> bytes:
        changed = copy.deepcopy(model)
        for side, edit in edits:
            if side in sides:
                edit.apply(changed)
        return form.write(changed).encode()

    told = "; ".join(f"{('target', 'source')[side]}: {edit.what}" for side, edit in edits)
    return Pair(form.file, written(()), written((0,)), written((1,)), written((0, 1)), told)
