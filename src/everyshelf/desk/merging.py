"""A commit of this desk that became a merge on the server, to be settled there.

What was committed is remembered until that merge ends. Once it is finished, those changes are on the branch: the desk
counts them as committed, so that nobody is asked to settle against their own work.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from everyshelf.decoding import from_json
from everyshelf.desk.states import Item
from everyshelf.desk.store import FOLDER, Entry, load_entries, save_entries, write_settled

if TYPE_CHECKING:
    from everyshelf.client import ShelfClient

_FILE = "merging.json"


class OpenMerge(msgspec.Struct):
    """The merge, and what was committed: path -> content id (None: gone) and size."""

    merge: str
    changes: dict[str, tuple[str | None, int]]
    gone: list[str] = []
    """Where moved artifacts came from."""


def remember_merge(root: Path, merge: str, items: list[Item]) -> None:
    """Keep what was committed until the merge ends."""
    changes = {item.path: (item.content, item.size) for item in items}
    moved = [item.moved_from for item in items if item.moved_from]
    write_settled(root / FOLDER / _FILE, msgspec.json.encode(OpenMerge(merge, changes, moved)))


def open_merge(root: Path) -> OpenMerge | None:
    """The merge this desk began and that is not known to have ended."""
    file = root / FOLDER / _FILE
    try:
        return from_json(file.read_bytes(), OpenMerge)
    except FileNotFoundError:
        return None
    except msgspec.DecodeError:
        file.unlink(missing_ok=True)
        return None


def follow_merge(root: Path, shelf: ShelfClient) -> str:
    """Ask what became of the merge; gives its state now ("" if there is none). A finished one is taken up: the desk's
    entries say that what was committed is what it came from."""
    from everyshelf.client import ProblemError

    known = open_merge(root)
    if known is None:
        return ""
    try:
        state = shelf.waiting_merge(known.merge).state
    except ProblemError as error:
        if error.code != "merge.missing":
            raise
        state = "abandoned"
    if state == "open":
        return state
    if state == "finished":
        _take_up(root, known)
    (root / FOLDER / _FILE).unlink(missing_ok=True)
    return state


def _take_up(root: Path, known: OpenMerge) -> None:
    entries = load_entries(root)
    for path in known.gone:
        entries.pop(path, None)
    for path, (content, size) in known.changes.items():
        old = entries.pop(path, None)
        if content is not None:
            kind, within = (old.kind, old.within) if old else ("opaque", "")
            entries[path] = Entry(content, size, -1, old.version if old else None, kind, within)
    save_entries(root, entries)
