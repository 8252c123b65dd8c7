"""One run of tidying: deltas of new versions, room that nothing needs, segments that hold much of it rewritten."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta
from typing import Any

from django.utils import timezone

from everyshelf.core.content.store import ContentStore
from everyshelf.service.base.acts import aside
from everyshelf.service.base.room import require_room
from everyshelf.service.keeping.models import Tidied
from everyshelf.service.keeping.reclaiming import reclaim
from everyshelf.service.keeping.shrinking import Progress, shrink_new, tidied
from everyshelf.service.shelves.models import CachedComparison, MergedContent

_MERGED_DAYS = 30  # older ones are merged again when they are next needed
_ANSWER_DAYS = 90  # older ones, of comparisons and the like, are worked out again when they are next asked for
_AT_ONCE = 500


def tidy(store: ContentStore, progress: Progress, give_way: Callable[[], None], *, asked: bool) -> dict[str, Any]:
    """Tidy the store while others read it and add to it. ``asked``: a person asked for it; nothing waits for its day.

    Raises ``ConflictError`` while a backup is made, and ``StorageError`` where the disk lacks room for what is written
    before anything is removed.
    """
    require_room()
    with aside():
        MergedContent.objects.filter(made__lt=timezone.now() - timedelta(days=_MERGED_DAYS)).delete()
    forgotten = _forget_answers()
    with store.segments.place.alone():
        # What other processes still add to is not rewritten: they begin another segment at their next request.
        store.segments.close()
        store.segments.place.ask_to_seal()
        saved = tidied().saved
        deltas = shrink_new(store, progress, give_way)
        done = reclaim(store, progress, now=asked)
    with aside():
        Tidied.objects.filter(pk=1).update(done=timezone.now())
    return {
        "deltas": deltas,
        "saved": tidied().saved - saved,
        "contents": done.contents,
        "condemned": done.condemned,
        "removed": done.removed,
        "segments": done.compacted.segments,
        "before": done.compacted.before,
        "after": done.compacted.after,
        "held_back": done.held_back,
        "forgotten": forgotten,
    }


def _forget_answers() -> int:
    """Remove answers that were worked out long ago, some at a time, so that others can write between; how many."""
    old = CachedComparison.objects.filter(made__lt=timezone.now() - timedelta(days=_ANSWER_DAYS))
    count = 0
    while some := list(old.values_list("pk", flat=True)[:_AT_ONCE]):
        with aside():
            count += CachedComparison.objects.filter(pk__in=some).delete()[0]
    return count
