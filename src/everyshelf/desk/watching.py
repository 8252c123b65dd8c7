"""A desk's edits go into its draft on the server as they are made.

The system reports changes (watchfiles); after each quiet moment what differs is saved. What cannot be read yet (a file
that is locked or still being written) is named and tried again; while the service is out of reach edits wait and are
sent when it answers. Reports can be missing: edits made before the first report is asked for, a queue of the system
that overflowed, a folder on another machine. So the whole desk is looked through once after reports have begun, and
again each minute.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING

from everyshelf.client import ProblemError, UnreachableError
from everyshelf.desk.states import Item
from everyshelf.desk.store import FOLDER

if TYPE_CHECKING:
    from everyshelf.client import ShelfClient
    from everyshelf.desk.desk import Desk

_QUIET_MS = 300
_AGAIN_SECONDS = 3.0
_LOOK_AGAIN_SECONDS = 60.0


@dataclass(frozen=True)
class Saved:
    """One round: what was saved (path and state), what could not be read and why, and a problem with saving."""

    at: datetime
    saved: list[tuple[str, str]] = field(default_factory=list)
    blocked: dict[str, str] = field(default_factory=dict)
    problem: str = ""


def watch(desk: Desk, shelf: ShelfClient, stop: threading.Event) -> Iterator[Saved]:
    """Save what is pending now, then each change as it comes, until ``stop`` is set; a row for each round that did
    something or could not."""
    from watchfiles import watch as changes

    known: dict[str, tuple[str | None, str]] = {}
    told: tuple[dict[str, str], str] = ({}, "")
    own = str(desk.root / FOLDER)

    def concerns(_: object, path: str) -> bool:
        return not path.startswith(own) and Path(path).name[:1] != "."

    rounds = changes(
        desk.root,
        watch_filter=concerns,
        stop_event=stop,
        debounce=_QUIET_MS,
        rust_timeout=int(_AGAIN_SECONDS * 1000),
        yield_on_timeout=True,
        raise_interrupt=False,
    )
    found = _round(desk, shelf, known)
    yield found
    told = found.blocked, found.problem
    due = 0.0  # reports begin with the first item of ``rounds``, after the look above: edits between are not reported
    for changed in rounds:
        if stop.is_set():
            return
        if not changed and not any(told) and time.monotonic() < due:
            continue  # nothing happened, and nothing waits to be tried again
        due = time.monotonic() + _LOOK_AGAIN_SECONDS
        found = _round(desk, shelf, known)
        if found.saved or (found.blocked, found.problem) != told:
            told = found.blocked, found.problem
            yield found


def _round(desk: Desk, shelf: ShelfClient, known: dict[str, tuple[str | None, str]]) -> Saved:
    """Save what differs from what was saved last, also what is as it was again."""
    states = desk.states()
    blocked = {i.path: i.reason for i in states if i.state == "blocked"}
    now = {i.path: i for i in states if i.state not in ("same", "blocked")}
    fresh = [i for i in now.values() if known.get(i.path) != (i.content, i.moved_from)]
    here = {i.path for i in states}
    back = [i for i in states if i.path in known and i.state == "same"]
    back += [Item(path, "gone", None, 0, None) for path in known if path not in here]  # new files that went again
    at = datetime.now(UTC)
    if not fresh and not back:
        return Saved(at, [], blocked)
    try:
        desk.save(shelf, [*fresh, *back])
    except (UnreachableError, ProblemError) as error:
        return Saved(at, [], blocked, str(error))
    for item in fresh:
        known[item.path] = item.content, item.moved_from
    for item in back:
        del known[item.path]
    return Saved(at, [_said(i) for i in (*fresh, *back)], blocked)


def _said(item: Item) -> tuple[str, str]:
    return item.path, item.state
