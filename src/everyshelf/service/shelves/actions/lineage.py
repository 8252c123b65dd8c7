"""Ancestry of a shelf's commits by their record numbers, kept in memory and extended as commits come."""

from __future__ import annotations

import threading
from itertools import groupby
from operator import itemgetter

from django.db import connection

from everyshelf.core.history.commit_sets import CommitSet, Descent
from everyshelf.service.base.unchanged import while_unchanged
from everyshelf.service.shelves.models import Commit, Shelf

_lock = threading.Lock()
_lineages: dict[int, Lineage] = {}


class Lineage:
    """Parents of every commit of one shelf. Numbers grow from parent to child, so they serve as the order."""

    def __init__(self, shelf_id: int, descent: Descent | None = None) -> None:
        self._shelf_id = shelf_id
        self._descent = descent or Descent()
        self._guard = threading.Lock()

    def refresh(self) -> None:
        """Take in commits made since the last look: one query, empty most of the time."""
        with self._guard:
            fresh = Commit.objects.filter(shelf_id=self._shelf_id, pk__gt=self._descent.newest)
            links = fresh.order_by("pk", "parent_links__position").values_list("pk", "parent_links__parent_id")
            for number, rows in groupby(links.iterator(), itemgetter(0)):
                self._descent.add(number, [parent for _, parent in rows if parent is not None])

    def copy(self) -> Lineage:
        """One that can be extended by itself."""
        with self._guard:
            return Lineage(self._shelf_id, self._descent.copy())

    def parents(self, commit: int) -> list[int]:
        """Direct parents, the branch's own first."""
        self._look_up(commit)
        return self._descent.parents(commit)

    def ancestors(self, commit: int) -> CommitSet:
        """The commit and everything it comes from."""
        self._look_up(commit)
        with self._guard:
            return self._descent.line(commit)

    def _look_up(self, commit: int) -> None:
        """One may be asked about that was made since; within a transaction it could be taken back."""
        if commit > self._descent.newest and not connection.in_atomic_block:
            self.refresh()

    def divergence(self, one: int | None, other: int | None) -> tuple[int, int]:
        """How many commits each line has that the other has not; None is a line without commits."""
        if one == other:
            return 0, 0
        if one is None or other is None:
            alone = len(self.ancestors(one or other or 0))
            return (alone, 0) if other is None else (0, alone)
        here, there = self.ancestors(one), self.ancestors(other)
        return len(here - there), len(there - here)

    def base(self, one: int, other: int) -> int | None:
        """The newest common ancestor."""
        return (self.ancestors(one) & self.ancestors(other)).newest


def lineage_of(shelf: Shelf) -> Lineage:
    """The shelf's lineage, up to date. Within a transaction it is one's own: what was written there may be taken back,
    and its record numbers given to something else."""
    with _lock:
        lineage = _lineages.setdefault(shelf.pk, Lineage(shelf.pk))
    if connection.in_atomic_block:
        lineage = lineage.copy()
        lineage.refresh()
    else:
        while_unchanged(("lineage", shelf.pk), lineage.refresh)
    return lineage


def is_ancestor(shelf: Shelf, old: Commit, new: Commit) -> bool:
    """True if ``new`` comes from ``old`` or is it."""
    return old.pk in lineage_of(shelf).ancestors(new.pk)
