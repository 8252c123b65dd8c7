"""One run of tidying: deltas of new versions, then segments rewritten where much of them is not needed."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from django.utils import timezone

from everyshelf.core.content.compacting import compact
from everyshelf.core.content.store import ContentStore
from everyshelf.service.base.acts import aside
from everyshelf.service.base.room import require_room
from everyshelf.service.keeping.models import Tidied
from everyshelf.service.keeping.shrinking import Progress, shrink_new, tidied


def tidy(store: ContentStore, progress: Progress, give_way: Callable[[], None]) -> dict[str, Any]:
    """Tidy the store while others read it and add to it. Raises ``ConflictError`` while a backup is made, and
    ``LimitError`` where the disk lacks room for what is written before anything is removed."""
    require_room()
    with store.segments.place.alone():
        # What other processes still add to is not rewritten: they begin another segment at their next request.
        store.segments.close()
        store.segments.place.ask_to_seal()
        saved = tidied().saved
        deltas = shrink_new(store, progress, give_way)
        done = compact(store.segments, lambda part, total: progress(part, total, "segments"))
    with aside():
        Tidied.objects.filter(pk=1).update(done=timezone.now())
    return {
        "deltas": deltas,
        "saved": tidied().saved - saved,
        "segments": done.segments,
        "before": done.before,
        "after": done.after,
    }
