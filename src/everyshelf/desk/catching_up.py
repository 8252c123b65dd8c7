"""Bringing newer commits onto a desk: what was edited here and changed there is merged by meaning."""

from __future__ import annotations

import os
import shutil
import tempfile
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from everyshelf.core.kinds.rules import FILE_NAME
from everyshelf.core.merge.model import Side, SideNames
from everyshelf.core.reading.worker import Worker
from everyshelf.desk.desk import Desk, Taken
from everyshelf.desk.store import FOLDER, Entry, load_entries, save_entries, save_home

if TYPE_CHECKING:
    from everyshelf.client import Artifact, ShelfClient

_SECONDS = 600.0
_NAMES = SideNames("on this desk", "on the shelf")


@dataclass
class CaughtUp:
    """What catching up did: what was taken, what was merged (path -> changes combined), and what is in conflict."""

    taken: Taken
    merged: dict[str, int] = field(default_factory=dict)
    conflicts: dict[str, list[str]] = field(default_factory=dict)
    notes: list[str] = field(default_factory=list)


def catch_up(desk: Desk, shelf: ShelfClient, prefer: Side | None = None) -> CaughtUp:
    """The newest state of the branch here, with what was edited merged into it.

    The desk is the merge's target, the newer version its source. What is in conflict stays as it is here and is told;
    the desk then goes on building on the older commit. The file as it was before a merge lies in
    ``.everyshelf/before-catch-up``.
    """
    result = CaughtUp(desk.take(shelf))
    if not result.taken.kept:
        return result
    head = shelf.branch(desk.home.branch).head if desk.home.branch else None
    there = shelf.artifacts(f"commit:{head}", files=True) if head else ()
    wanted = {a.path: a for a in there if desk.is_taken(a)}
    entries = load_entries(desk.root)
    rules = desk.root / FILE_NAME
    text = rules.read_text(encoding="utf-8") if rules.is_file() else ""
    worker = Worker(deadline_seconds=_SECONDS)
    try:
        for path in result.taken.kept:
            _one(desk, shelf, worker, path, wanted.get(path), entries, text, prefer, result)
    finally:
        worker.close()
        save_entries(desk.root, entries)
    if not result.conflicts:
        desk.home.commit = head
        save_home(desk.root, desk.home)
    return result


def _one(
    desk: Desk,
    shelf: ShelfClient,
    worker: Worker,
    path: str,
    newer: Artifact | None,
    entries: dict[str, Entry],
    rules_text: str,
    prefer: Side | None,
    result: CaughtUp,
) -> None:
    entry, here = entries.get(path), desk.root / path
    if newer is None or entry is None or not here.is_file():
        if prefer is None:
            why = (
                "removed on the shelf, edited on this desk"
                if newer is None
                else "added on both sides, or removed on this desk"
            )
            result.conflicts[path] = [why]
            return
        _take_side(desk, shelf, path, newer, entries, prefer)
        result.merged[path] = 0
        return
    with tempfile.TemporaryDirectory(dir=desk.root / FOLDER) as scratch:
        base, source, output = (Path(scratch, name) for name in ("base", "source", "merged"))
        desk.write_base(entry.content, base, shelf)
        shelf.download_content(newer.content, source)
        found = worker.merge(path, (base, here, source), output, rules=rules_text, prefer=prefer, names=_NAMES)
        if not found.merged:
            result.conflicts[path] = [c.why for c in found.conflicts if c.decision is None]
            return
        _put_aside(desk, path)
        output.chmod(here.stat().st_mode & 0o777)
        os.replace(output, here)
    # It came from the newer version now; what the desk adds to that shows as edited.
    entries[path] = Entry(newer.content, newer.size, -1, newer.version, newer.kind, newer.within)
    result.merged[path] = found.combined
    result.notes += [f"{path}: {note}" for note in found.notes]


def _take_side(
    desk: Desk, shelf: ShelfClient, path: str, newer: Artifact | None, entries: dict[str, Entry], prefer: Side
) -> None:
    """Take one side as a whole: for what one side removed and the other edited, or both added."""
    here = desk.root / path
    if prefer == "source":
        if here.is_file():
            _put_aside(desk, path)
        if newer is None:
            here.unlink(missing_ok=True)
        else:
            here.parent.mkdir(parents=True, exist_ok=True)
            shelf.download_content(newer.content, here)
    if newer is None:
        entries.pop(path, None)
    else:
        entries[path] = Entry(newer.content, newer.size, -1, newer.version, newer.kind, newer.within)


def _put_aside(desk: Desk, path: str) -> None:
    """Keep the file as it was before."""
    target = desk.root / FOLDER / "before-catch-up" / path
    target.parent.mkdir(parents=True, exist_ok=True)
    shutil.copy2(desk.root / path, target)
