"""A block of work on a branch: what it writes is committed at its end, all or nothing, with what it read."""

from __future__ import annotations

import json
import threading
from collections.abc import Iterator
from contextlib import contextmanager

from everyshelf.client.errors import ProblemError
from everyshelf.client.files.places import SCHEME, Place
from everyshelf.client.models import Artifact, ChangeRequest, Commit, CommitMessage, Content
from everyshelf.client.shelf import ShelfClient

_running: dict[tuple[str, str, str], Writing] = {}
_lock = threading.Lock()


class Writing:
    """Changes that are gathered for one commit; ``made`` is that commit, once there is one."""

    def __init__(self, shelf: ShelfClient, place: Place, base: str | None) -> None:
        self.shelf = shelf
        self.base = base
        self.made: Commit | None = None
        self._changes: dict[str, tuple[Content | None, str]] = {}
        self._read: dict[str, None] = {}
        self._place = place
        self._lock = threading.Lock()

    def address(self, path: str) -> str:
        """The address of a file of the branch, for any tool: what is written there belongs to the commit."""
        return SCHEME + self._place.below(path).address()

    def note_read(self, place: Place, found: Artifact) -> None:
        """Remember that a version was read; not what the block itself wrote, nor what is on other shelves."""
        if (place.host, place.shelf) != (self._place.host, self._place.shelf) or found.path in self._changes:
            return
        own = running(place) is self or found.commit is None
        with self._lock:
            self._read[found.path if own else f"{found.path}@commit:{found.commit}"] = None

    def keep(self, path: str, content: Content | None, moved_from: str = "") -> None:
        """Put a change with the others; None for the content removes the file. What the block itself made and moves or
        removes again leaves no trace in the commit."""
        with self._lock:
            if moved_from in self._changes:
                before = self._changes.pop(moved_from)[1]
                moved_from = before or (moved_from if self._was_there(moved_from) else "")
            if content is None:
                self._changes.pop(path, None)
            if content is not None or self._was_there(path):
                self._changes[path] = (content, moved_from)

    def _was_there(self, path: str) -> bool:
        """True if the branch had it when the block began."""
        if self.base is None:
            return False
        try:
            return not self.shelf.artifact(path, f"commit:{self.base}").whole
        except ProblemError as error:
            if error.status != 404:
                raise
            return False

    def now(self) -> dict[str, Content | None]:
        """What lies now at each path that the block changed; None where it took something away."""
        with self._lock:
            gone: dict[str, Content | None] = {moved: None for _, moved in self._changes.values() if moved}
            return gone | {path: content for path, (content, _) in self._changes.items()}

    def changes(self) -> list[ChangeRequest]:
        """What is to be committed."""
        with self._lock:
            return [
                ChangeRequest(path, content.id if content else None, moved_from)
                for path, (content, moved_from) in self._changes.items()
            ]

    def inputs(self) -> list[str]:
        """What was read, in order: paths, with ``@REF`` where they are of another state."""
        with self._lock:
            return list(self._read)


@contextmanager
def writing(
    shelf: ShelfClient,
    branch: str,
    message: str | CommitMessage,
    *,
    start: str = "",
    merge: bool = False,
) -> Iterator[Writing]:
    """Commit to ``branch`` what the block writes under ``Writing.address`` (or any ``shelf://`` address of that branch
    in this process), together, with what it read as the label ``made-from``; nothing after an error.

    ``start``: make the branch from that ref first. ``merge``: where others committed meanwhile, merge by meaning;
    otherwise ``ProblemError`` (branch.moved) says so. In the block the branch reads as it was at its begin, with what
    the block wrote.
    """
    found = shelf.make_branch(branch, start) if start else shelf.branch(branch)
    host = shelf.address.partition("://")[2]
    place = Place(host, shelf.key, branch)
    work = Writing(shelf, place, found.head)
    # An address without a ref means the main branch.
    keys = [(host, shelf.key, ref) for ref in (branch, *([""] if shelf.info().main_branch == branch else []))]
    with _lock:
        if keys[0] in _running:
            raise ValueError(f"another block of this process writes to {branch} already")
        _running.update(dict.fromkeys(keys, work))
    try:
        yield work
    finally:
        with _lock:
            for key in keys:
                del _running[key]
    changes = work.changes()
    if not changes:
        return
    said = CommitMessage(message) if isinstance(message, str) else message
    inputs = work.inputs()
    labels = {**said.labels, **({"made-from": json.dumps(inputs)} if inputs else {})}
    told = CommitMessage(said.summary, said.description, labels, said.tasks, said.author, said.time)
    work.made = shelf.commit(branch, work.base, changes, told, merge=merge)


def running(place: Place) -> Writing | None:
    """The block of this process that writes to the branch a place is on."""
    with _lock:
        return _running.get((place.host, place.shelf, place.ref))


def all_running() -> list[Writing]:
    """Every block of this process: whatever it reads while one runs may be an input."""
    with _lock:
        return list(dict.fromkeys(_running.values()))
