"""Free what nothing reaches: first contents that a shelf holds and no record names, then their bytes.

Both wait. A content that was sent and never committed is held for ``EVERYSHELF_GRACE_HOURS`` after it was first found
so; bytes are condemned in one run and removed in a later one, when all who might rely on them have ended
(``core.content.in_use``).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

import structlog
from django.db.models import Count, Min, QuerySet, Sum
from django.utils import timezone

from everyshelf.core.content.compacting import Compacted, compact, find_unreached
from everyshelf.core.content.in_use import others_ended, publish, read_condemned
from everyshelf.core.content.store import ContentStore
from everyshelf.core.errors import BrokenError
from everyshelf.service.base.acts import aside
from everyshelf.service.base.config import get_config
from everyshelf.service.base.context import get_trees
from everyshelf.service.keeping.models import Tidied
from everyshelf.service.keeping.reaching import Progress, Reach, follow_records, held_contents
from everyshelf.service.keeping.shrinking import tidied
from everyshelf.service.shelves.models import ShelfContent

log = structlog.get_logger("everyshelf.keeping")
_AT_ONCE, _ROWS = 500, 2000
_EVERY = timedelta(hours=24)  # reading all records and folders is not done each time


@dataclass(frozen=True)
class Reclaimed:
    """What a run did: contents let go of, pieces condemned, pieces removed, and segments before and after."""

    contents: int
    condemned: int
    removed: int
    compacted: Compacted


def reclaim(store: ContentStore, progress: Progress, *, now: bool = False) -> Reclaimed:
    """Go as far as can be gone: remove what an earlier run condemned, rewrite segments, condemn what is to be removed
    next, if it is time (or ``now``). The caller holds ``Place.alone``."""
    place = store.segments.place
    condemned = read_condemned(place)

    def part(done: int, total: int) -> None:
        progress(done, total, "segments")

    reached: set[bytes] | None = None
    drop: set[bytes] = set()
    if len(condemned) and not others_ended(place, condemned):
        # Rewriting now would take what is condemned into segments of which nobody knows that it is.
        size = sum(place.size(one.segment) for one in store.segments.sealed())
        return Reclaimed(0, 0, 0, Compacted(0, size, size))
    if len(condemned):
        reached = _named(store, progress)
        left = find_unreached(store, reached | held_contents(get_config().database))
        drop = set(left.ids).intersection(condemned.ids())
    done = compact(store.segments, part, drop=drop, within=condemned.segments)
    if len(condemned):
        publish(place, [], [])
    contents, fresh = _condemn(store, progress, reached) if now or _is_time() else (0, 0)
    return Reclaimed(contents, fresh, done.dropped, done)


def _is_time() -> bool:
    looked = tidied().looked
    return looked is None or looked < timezone.now() - _EVERY


def _condemn(store: ContentStore, progress: Progress, reached: set[bytes] | None) -> tuple[int, int]:
    """Let go of contents not used for the time of grace, and condemn the bytes nothing reaches. ``reached``: what the
    records named a moment ago, if that is known; what they name since is seen before anything is removed."""
    try:
        reached = _named(store, progress) if reached is None else reached
        contents = let_go(reached)
        unreached = find_unreached(store, reached | held_contents(get_config().database))
    except BrokenError as error:  # what hangs on the damaged part is not known: nothing is removed
        log.warning("nothing is freed while the store is damaged", why=error.message)
        return 0, 0
    if unreached.ids:
        publish(store.segments.place, unreached.segments, unreached.ids)
    with aside():
        Tidied.objects.filter(pk=1).update(looked=timezone.now())
    return contents, len(unreached.ids)


def _named(store: ContentStore, progress: Progress) -> set[bytes]:
    reach = Reach(store)
    reach.follow(bytes.fromhex(get_trees().empty))
    follow_records(get_config().database, reach, progress)
    return reach.contents


def let_go(reached: set[bytes]) -> int:
    """Note which contents no record names, and drop those noted before the time of grace; returns how many went."""
    noted = timezone.now()
    before = noted - timedelta(hours=get_config().grace_hours)
    marks: dict[bool, list[int]] = {True: [], False: []}
    going = []
    for row, content, since in ShelfContent.objects.values_list("pk", "content", "unreached_since").iterator(_ROWS):
        is_reached = bytes.fromhex(content) in reached
        if is_reached != (since is None):
            marks[is_reached].append(row)
        elif since is not None and since < before:
            going.append(row)
    gone = 0
    with aside():
        for is_reached, rows in marks.items():
            for some in _in_parts(rows):
                some.update(unreached_since=None if is_reached else noted)
        for some in _in_parts(going):
            # What is used meanwhile was noted as used before anything relied on it (``hold``, ``held_of``).
            gone += some.filter(unreached_since__lt=before).delete()[0]
    return gone


def _in_parts(rows: list[int]) -> Iterator[QuerySet[ShelfContent]]:
    for start in range(0, len(rows), _AT_ONCE):
        yield ShelfContent.objects.filter(pk__in=rows[start : start + _AT_ONCE])


def waiting_contents() -> dict[str, Any]:
    """How many contents no record names, their bytes, and when the first of them goes."""
    rows = ShelfContent.objects.exclude(unreached_since=None)
    found = rows.aggregate(count=Count("pk"), size=Sum("size"), since=Min("unreached_since"))
    grace = timedelta(hours=get_config().grace_hours)
    return {
        "unreached": found["count"],
        "unreached_bytes": found["size"] or 0,
        "frees": found["since"] + grace if found["since"] else None,
    }
