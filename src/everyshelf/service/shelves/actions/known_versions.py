"""What listings read again and again, kept between requests: after a commit a page is as before but for a few rows.

Versions are only ever added, in the order of their record numbers, and what a described one says stays as it is. So all
that was read holds as long as the versions that came since are looked at: those of a path and content replace what was
kept of them, and one with a path that the shelf never had comes between two others, which were neighbours before.
"""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Collection, Hashable, Iterable
from dataclasses import dataclass, field
from typing import Any

import msgspec
from django.db import connection
from django.db.models import Max, OuterRef, QuerySet, Subquery

from everyshelf.service.base.unchanged import while_unchanged
from everyshelf.service.shelves.actions.seen_shapes import SeenVersion
from everyshelf.service.shelves.models import ArtifactVersion

_MOST_VERSIONS = 6_000
_MOST_NEIGHBOURS = 10_000
_MOST_CAME, _MOST_NEW_PATHS = 1_000, 200  # more that came at once are not looked at one by one


class Beside(msgspec.Struct, frozen=True):
    """The path beside another, in the order of their tails, and how many of their last parts both have in common."""

    path: str
    shared: int


@dataclass(frozen=True)
class _Came:
    """Versions of a shelf that are new since another look."""

    newest: int
    changed: list[tuple[str, str]] = field(default_factory=list)  # path and content
    parted: list[tuple[int, bool]] = field(default_factory=list)  # version and direction: something new is beside it
    are_many: bool = False

    @classmethod
    def since(cls, shelf: int, known: int | None) -> _Came:
        """Those after ``known``; None: nothing was read before, so that nothing has to be dropped."""
        versions = ArtifactVersion.objects.filter(shelf_id=shelf)
        if known is None:
            return cls(versions.aggregate(newest=Max("pk"))["newest"] or 0)
        rows = versions.filter(pk__gt=known).order_by("pk").values_list("pk", "path", "content", "tail")
        came = list(rows[: _MOST_CAME + 1])
        if not came:
            return cls(known)
        by_tail = {tail: key for key, _, _, tail in came}
        there = versions.filter(pk__lte=known, tail__in=by_tail).values_list("tail", flat=True).distinct()
        new = [by_tail[tail] for tail in by_tail.keys() - set(there)]
        if len(came) > _MOST_CAME or len(new) > _MOST_NEW_PATHS:
            return cls(versions.aggregate(newest=Max("pk"))["newest"], are_many=True)
        newest = came[-1][0]
        changed = [(path, content) for _, path, content, _ in came]
        return cls(newest, changed, _parted_by(versions.filter(pk__lte=newest), new) if new else [])


def _parted_by(versions: QuerySet[ArtifactVersion], new: list[int]) -> list[tuple[int, bool]]:
    """The versions that have one of the ``new`` beside them now, and in which direction (``backwards``)."""
    before = versions.filter(tail__lt=OuterRef("tail")).order_by("-tail").values("tail")[:1]
    after = versions.filter(tail__gt=OuterRef("tail")).order_by("tail").values("tail")[:1]
    rows = ArtifactVersion.objects.filter(pk__in=new).annotate(before=Subquery(before), after=Subquery(after))
    sides = list(rows.values_list("before", "after"))
    found: list[tuple[int, bool]] = []
    for backwards, tails in ((False, {one for one, _ in sides}), (True, {other for _, other in sides})):
        beside = versions.filter(tail__in=tails - {None}).order_by().values_list("pk", flat=True)
        found += [(key, backwards) for key in beside]
    return found


class KnownVersions:
    """Of all shelves: the newest version of a path with a content, and which path is beside that of a version."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._until: dict[int, int] = {}  # by shelf, the newest version that was looked at
        self._versions: OrderedDict[tuple[int, str, str], SeenVersion] = OrderedDict()  # by shelf, path and content
        self._beside: OrderedDict[tuple[int, int, bool], Beside | None] = OrderedDict()  # by shelf and version

    def bring_up_to_date(self, shelf: int) -> int:
        """Look at the versions that came since, and return up to which one that was: ``keep`` asks for it.

        0 in a transaction, in which nothing is taken from here: what was written there may be taken back.
        """
        if connection.in_atomic_block:
            return 0
        return while_unchanged(("known versions", shelf), lambda: self._brought(shelf))

    def versions(self, shelf: int, until: int, contents: dict[str, str]) -> dict[str, SeenVersion]:
        """Those that are kept of these paths and contents, by path."""
        with self._lock:
            if not until or self._until.get(shelf) != until:
                return {}
            found = {path: self._versions.get((shelf, path, content)) for path, content in contents.items()}
            return {path: version for path, version in found.items() if version is not None}

    def keep_versions(self, shelf: int, until: int, versions: Iterable[SeenVersion]) -> None:
        """Keep what was read since ``until`` was asked for: each the newest of its path with its content."""
        found = [((shelf, one.path, one.content), one) for one in versions]
        self._keep(self._versions, _MOST_VERSIONS, shelf, until, found)

    def beside(self, shelf: int, until: int, versions: Iterable[int], *, backwards: bool) -> dict[int, Beside | None]:
        """What is beside the path of each version, as far as it is kept; None at the end."""
        with self._lock:
            if not until or self._until.get(shelf) != until:
                return {}
            keys = {one: (shelf, one, backwards) for one in versions}
            return {one: self._beside[key] for one, key in keys.items() if key in self._beside}

    def keep_beside(self, shelf: int, until: int, found: dict[int, Beside | None], *, backwards: bool) -> None:
        """Keep what was read since ``until`` was asked for."""
        kept = [((shelf, one, backwards), beside) for one, beside in found.items()]
        self._keep(self._beside, _MOST_NEIGHBOURS, shelf, until, kept)

    def _keep(
        self, kept: OrderedDict[Any, Any], most: int, shelf: int, until: int, found: Collection[tuple[Hashable, Any]]
    ) -> None:
        with self._lock:
            if not until or self._until.get(shelf) != until:  # another thread knows more by now
                return
            for key, value in found:
                kept[key] = value
                kept.move_to_end(key)
            while len(kept) > most:
                kept.popitem(last=False)

    def _brought(self, shelf: int) -> int:
        with self._lock:
            known = self._until.get(shelf)
        came = _Came.since(shelf, known)
        with self._lock:
            if self._until.get(shelf) != known:  # another thread was quicker; what it looked at is right
                return self._until[shelf]
            if came.are_many:
                self._drop_all(self._versions, shelf)
                self._drop_all(self._beside, shelf)
            for version, backwards in came.parted:
                self._beside.pop((shelf, version, backwards), None)
            for path, content in came.changed:
                self._versions.pop((shelf, path, content), None)
            self._until[shelf] = came.newest
            return came.newest

    def _drop_all(self, kept: OrderedDict[Any, Any], shelf: int) -> None:
        for key in [key for key in kept if key[0] == shelf]:
            del kept[key]


known_versions = KnownVersions()
