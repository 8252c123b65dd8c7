"""Ancestry of a shelf's commits by their record numbers, kept in memory and extended as commits come."""

from __future__ import annotations

import threading
from collections import OrderedDict

from django.db import connection

from everyshelf.core.history.ancestry import ancestors, divergence, merge_base
from everyshelf.service.base.unchanged import while_unchanged
from everyshelf.service.shelves.models import Commit, CommitParent, Shelf

_KEPT_SETS = 16
_KEPT_PAIRS = 4096
_lock = threading.Lock()
_lineages: dict[int, Lineage] = {}


class Lineage:
    """Parents of every commit of one shelf. Numbers grow from parent to child, so they serve as the order."""

    def __init__(self, shelf_id: int) -> None:
        self._shelf_id = shelf_id
        self._parents: dict[int, list[int]] = {}
        self._seen_link = 0
        self._sets: OrderedDict[int, set[int]] = OrderedDict()
        self._apart: OrderedDict[tuple[int, int], tuple[int, int]] = OrderedDict()
        self._guard = threading.Lock()

    def refresh(self) -> None:
        """Take in commits made since the last look: one query, empty most of the time."""
        with self._guard:
            links = CommitParent.objects.filter(commit__shelf_id=self._shelf_id, id__gt=self._seen_link)
            for number, commit, parent in links.order_by("id").values_list("id", "commit_id", "parent_id"):
                self._parents[commit] = [*self._parents.get(commit, ()), parent]
                self._seen_link = number

    def copy(self) -> Lineage:
        """One that can be extended by itself."""
        other = Lineage(self._shelf_id)
        with self._guard:
            other._parents = self._parents.copy()
            other._seen_link = self._seen_link
        return other

    def parents(self, commit: int) -> list[int]:
        """Direct parents, the branch's own first."""
        return self._parents.get(commit, [])

    def ancestors(self, commit: int) -> set[int]:
        """The commit and everything it comes from; the newest few sets are remembered."""
        with self._guard:
            known = self._sets.get(commit)
            if known is not None:
                self._sets.move_to_end(commit)
                return known
        found = ancestors(commit, self.parents)
        with self._guard:
            self._sets[commit] = found
            if len(self._sets) > _KEPT_SETS:
                self._sets.popitem(last=False)
        return found

    def divergence(self, one: int | None, other: int | None) -> tuple[int, int]:
        """How many commits each line has that the other has not; None is a line without commits."""
        if one == other:
            return 0, 0
        if one is None or other is None:
            alone = len(self.ancestors(one or other or 0))
            return (alone, 0) if other is None else (0, alone)
        with self._guard:
            known = self._apart.get((one, other))
        if known is None:
            known = divergence(one, other, self.parents, int)
            with self._guard:
                self._apart[one, other] = known
                if len(self._apart) > _KEPT_PAIRS:
                    self._apart.popitem(last=False)
        return known

    def base(self, one: int, other: int) -> int | None:
        """The newest common ancestor."""
        return merge_base(one, other, self.parents, int)


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
