"""Writes down the step between two versions while they are compared: which part became which."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from typing import Any, NamedTuple

from everyshelf.core.origins.steps import Came, FieldStep, Gone, Kept, Places, Step, Touch, clipped
from everyshelf.core.outline.model import plain

_MOST_GONE = 2000  # of one parent, named by label; more are counted by the comparison


class Spot(NamedTuple):
    """Where a part without a counterpart is: the step of its parent, its place, and all places from the root down."""

    parent: Step
    place: int
    places: Places


class Trail:
    """Where the comparison is at the moment: the step of the pair it looks at, and the places of its older part."""

    def __init__(self) -> None:
        self.root = Step()
        self._here = self.root
        self._places: Places = []
        self._same: dict[int, list[tuple[int, int]]] = {}  # by id of the step: pairs of places carried as they were
        self._steps: list[Step] = [self.root]

    def same(self, pairs: Iterable[tuple[int, int]]) -> None:
        """Children that are equal, by their places before and after."""
        self._same.setdefault(id(self._here), []).extend(pairs)

    @contextmanager
    def pair(self, old: int, new: int, *, renamed: tuple[Any, Any] | None = None) -> Iterator[None]:
        """Two children that are the same part and may differ; ``renamed``: their keys where these differ."""
        parent, step = self._here, self._begun()
        if renamed is not None:
            step.fields[""] = FieldStep("set", clipped(plain(renamed[0])), clipped(plain(renamed[1])))
        self._places.append(old)
        yield
        self._places.pop()
        self._here = parent
        if self._finished(step).is_empty:
            self.same([(old, new)])
        else:
            parent.kept[new] = Kept(old, step)

    def looks_of(self, old: int, new: int) -> None:
        """Two children that are the same part and differ in looks only."""
        self._here.kept[new] = Kept(old, Step(looks=True))

    def moved(self, old: int, new: int) -> None:
        """A child stands elsewhere among its siblings."""
        kept = self._here.kept.setdefault(new, Kept(old, Step()))
        kept.step.moved = True

    def field(self, name: str, touch: Touch, before: Any, after: Any) -> None:
        """A field that differs."""
        self._here.fields[name] = FieldStep(touch, clipped(plain(before)), clipped(plain(after)))

    def columns(self, added: Iterable[str], renamed: Iterable[tuple[str, str]]) -> None:
        """Columns of a table in an outline."""
        self._here.columns = {**{new: old for old, new in renamed}, **dict.fromkeys(added)}

    def whole(self) -> None:
        """The part differs, and nothing in it says how."""
        self._here.whole = True

    def looks(self) -> None:
        """The part as a whole differs in looks only."""
        self._here.looks = True

    def gone(self, place: int, part_type: str, label: str, path: str) -> Spot:
        """A child that only the older version has."""
        if len(self._here.gone) < _MOST_GONE:
            self._here.gone.append(Gone(place, part_type, label, path))
        return Spot(self._here, place, [*self._places, place])

    def added(self, place: int) -> Spot:
        """A child that only the newer version has."""
        self._here.added.append(place)
        return Spot(self._here, place, [])

    @contextmanager
    def came(self, old: Spot, new: Spot) -> Iterator[None]:
        """A part that went to another parent."""
        parent, places, step = self._here, self._places, self._begun()
        self._places = list(old.places)
        yield
        self._here, self._places = parent, places
        new.parent.added.remove(new.place)
        old.parent.gone = [gone for gone in old.parent.gone if gone.place != old.place]
        new.parent.came[new.place] = Came(old.places, self._finished(step))

    def finished(self) -> Step:
        """The step between the two versions."""
        for step in self._steps:
            self._finished(step)
        return self.root

    def _begun(self) -> Step:
        step = self._here = Step()
        self._steps.append(step)
        return step

    def _finished(self, step: Step) -> Step:
        """With the runs of children carried as they were, unless all are where they have been."""
        pairs = sorted(self._same.pop(id(step), []), key=lambda pair: pair[1])
        step.runs = step.runs or _runs(pairs)
        return step


def _runs(pairs: list[tuple[int, int]]) -> list[tuple[int, int, int]]:
    runs: list[tuple[int, int, int]] = []
    for old, new in pairs:
        if runs and runs[-1][0] + runs[-1][2] == old and runs[-1][1] + runs[-1][2] == new:
            runs[-1] = (runs[-1][0], runs[-1][1], runs[-1][2] + 1)
        else:
            runs.append((old, new, 1))
    return runs if any(old != new for old, new, _ in runs) else []
