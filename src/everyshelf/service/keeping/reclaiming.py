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

from everyshelf.core.content.compacting import Compacted, Unreached, compact
from everyshelf.core.content.in_use import Condemned, others_ended, publish, read_condemned
from everyshelf.core.content.store import ContentStore
from everyshelf.core.errors import BrokenError
from everyshelf.service.base.acts import aside
from everyshelf.service.base.clock import is_recent
from everyshelf.service.base.config import get_config
from everyshelf.service.keeping.models import Tidied
from everyshelf.service.keeping.needed import Needed, find_needed, find_unneeded
from everyshelf.service.keeping.reaching import Progress
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
    held_back: str = ""


_UNDER_WAY = "uploads or jobs that began before are still under way; the next run goes on"


def reclaim(store: ContentStore, progress: Progress, *, now: bool = False) -> Reclaimed:
    """Go as far as can be gone: remove what an earlier run condemned, rewrite segments, condemn what is to be removed
    next, if it is time (or ``now``). The caller holds ``Place.alone``. ``held_back`` says why something had to wait."""
    place = store.segments.place
    condemned = read_condemned(place)
    if condemned.is_damaged:
        condemned = publish(place, [], [])
    if len(condemned) and not others_ended(place, condemned):
        # Rewriting now would take what is condemned into segments of which nobody knows that it is.
        return Reclaimed(0, 0, 0, _untouched(store), _UNDER_WAY)
    try:
        needed = find_needed(store, progress) if len(condemned) or now or _is_time() else None
        unneeded = find_unneeded(store, needed) if needed is not None and len(condemned) else {}
    except BrokenError as error:
        return Reclaimed(0, 0, 0, _untouched(store), _damaged(error))
    try:
        done = _compact(store, condemned, unneeded, progress)
        if len(condemned):
            publish(place, [], [])
        contents, fresh = _condemn(store, needed) if needed is not None and (now or _is_time()) else (0, 0)
    except BrokenError as error:
        return Reclaimed(0, 0, 0, _untouched(store), _damaged(error))
    return Reclaimed(contents, fresh, done.dropped, done)


def _compact(
    store: ContentStore, condemned: Condemned, unneeded: dict[str, Unreached], progress: Progress
) -> Compacted:
    """Rewrite the segments of each store without what was condemned and is not needed now, either."""
    ids = set(condemned.ids())
    done = Compacted(0, 0, 0)
    for name in sorted(store.segments.stores()):
        one = compact(
            store.segments,
            lambda part, total: progress(part, total, "segments"),
            of=name,
            drop=ids.intersection(unneeded[name].ids) if name in unneeded else set(),
            within=condemned.segments,
            reads_back=store.reads_back_unpacked,
        )
        done = Compacted(
            done.segments + one.segments, done.before + one.before, done.after + one.after, done.dropped + one.dropped
        )
    return done


def _damaged(error: BrokenError) -> str:
    """What hangs on the damaged part is not known: nothing is removed before it is back."""
    log.warning("nothing is freed while the store is damaged", why=error.message)
    return f"nothing is freed while the store is damaged ({error.message}); replace it with everyshelf storage heal"


def _untouched(store: ContentStore) -> Compacted:
    size = sum(store.segments.place.size(one.segment) for one in store.segments.known())
    return Compacted(0, size, size)


def _is_time() -> bool:
    looked = tidied().looked
    return not is_recent(looked, _EVERY)


def _condemn(store: ContentStore, needed: Needed) -> tuple[int, int]:
    """Let go of contents not used for the time of grace, and condemn the bytes nothing reaches. ``needed``: what the
    records named a moment ago; what they name since is seen before anything is removed."""
    contents = let_go(needed.named.contents)
    unneeded = find_unneeded(store, needed).values()
    ids = {identity for one in unneeded for identity in one.ids}
    if ids:
        publish(store.segments.place, [segment for one in unneeded for segment in one.segments], sorted(ids))
    with aside():
        Tidied.objects.filter(pk=1).update(looked=timezone.now())
    return contents, len(ids)


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


def list_unused(after: int, limit: int) -> dict[str, Any]:
    """A page of the contents that no record names, by number of their row; ``after`` that number."""
    rows = ShelfContent.objects.exclude(unreached_since=None).filter(pk__gt=after).order_by("pk")
    found = list(rows.select_related("shelf")[: limit + 1])
    page, grace = found[:limit], timedelta(hours=get_config().grace_hours)
    items = [
        {
            "content": row.content,
            "size": row.size,
            "shelf": row.shelf.key,
            "since": row.unreached_since,
            "frees": row.unreached_since + grace,
        }
        for row in page
        if row.unreached_since is not None
    ]
    return {"items": items, "next": page[-1].pk if len(found) > limit else None}


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
