"""Use cases of owners: say in which store the bytes of a shelf live, and have them copied there."""

from __future__ import annotations

import contextlib
import time
from typing import Any

from everyshelf.core.content.gathering import gather
from everyshelf.core.content.place import Place
from everyshelf.core.content.store import ContentStore
from everyshelf.core.content.stores import told_name
from everyshelf.core.errors import ConflictError
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.config import get_config
from everyshelf.service.base.room import require_room
from everyshelf.service.jobs.actions import job_json, start_job
from everyshelf.service.jobs.models import Job, State
from everyshelf.service.keeping.reaching import Progress, Reached, follow_records
from everyshelf.service.log.actions import note
from everyshelf.service.rights import Caller, require
from everyshelf.service.shelves.actions.shelves import known_store
from everyshelf.service.shelves.models import Shelf, ShelfContent

KIND = "move-shelf"
_LOOK_AGAIN_SECONDS = 0.3


def shelf_store(shelf: Shelf) -> dict[str, Any]:
    """Where the bytes of a shelf live, and the newest job that copied them."""
    newest = _newest(shelf)
    return {"store": told_name(shelf.store), "moving": job_json(newest) if newest is not None else None}


def _newest(shelf: Shelf) -> Job | None:
    return Job.objects.filter(kind=KIND, shelf=shelf).order_by("-pk").first()


def change_store(caller: Caller, shelf: Shelf, name: str) -> dict[str, Any]:
    """Let the bytes of a shelf live in another store from now on. What is written from now on goes there; a job copies
    what was written before. Tidying frees it where it lay, once nothing there needs it any more. The
    same store again: goes on after a job that failed or was cancelled."""
    require(caller, shelf, "change the shelf")
    store = known_store(name)
    newest = _newest(shelf)
    with one_act():
        if shelf.store != store:
            shelf.store = store
            shelf.save(update_fields=["store"])
            note(caller, "shelf.moved", shelf.name, shelf, store=told_name(store))
            start_job(caller, KIND, shelf, {"store": store})
        elif newest is not None and newest.state in (State.FAILED, State.CANCELLED):
            start_job(caller, KIND, shelf, {"store": store})  # goes on where that one ended
    return shelf_store(shelf)


def move_shelf(store: ContentStore, shelf: Shelf, progress: Progress) -> dict[str, Any]:
    """Copy into the store of a shelf all that its records reach and that lies only elsewhere. Raises ``BrokenError``
    where it is not known what hangs on a damaged part, ``StorageError`` where the disk lacks room."""
    require_room()
    with contextlib.ExitStack() as alone:
        _wait_for_others(store.segments.place, alone, progress)
        store.segments.close()
        store.segments.place.ask_to_seal()
        reached = Reached(store)
        follow_records(get_config().database, reached, progress, shelf.pk)
        held = ShelfContent.objects.filter(shelf=shelf).values_list("content", flat=True)
        contents = reached.contents.union(bytes.fromhex(content) for content in held.iterator())

        def told(part: int, total: int) -> None:
            require_room()
            progress(part, total, "contents")

        done = gather(store, shelf.store, contents, told)
    return {"store": told_name(shelf.store), "pieces": done.pieces, "bytes": done.size, "left": len(done.left)}


def _wait_for_others(place: Place, alone: contextlib.ExitStack, progress: Progress) -> None:
    """Be the only one who rewrites segments, when a backup or tidying has ended; can be cancelled meanwhile."""
    while True:
        try:
            alone.enter_context(place.alone())
            return
        except ConflictError:
            progress(0, 1, "a backup or tidying, which has to end first")
            time.sleep(_LOOK_AGAIN_SECONDS)
