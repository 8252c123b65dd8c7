"""What commits changed, worked out before it is their turn.

It follows from the shelf alone, so that other processes can do it, while the trees and commits of Git have to be made
one after the other.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from everyshelf.core.content.ids import content_id
from everyshelf.core.content.store import ContentInfo, ContentStore
from everyshelf.core.content.stores import in_store
from everyshelf.core.history.trees import Trees
from everyshelf.gitside.layout import file_changes
from everyshelf.gitside.mapping import Seen, wholes_of

States = Sequence[tuple[str, str]]  # before and after; the empty text: nothing before
_CACHED_ROWS = 40_000
_MOST_FILES, _MOST_IN_BATCH = 1_000, 10_000  # whoever asked would have to keep them all in memory


class _WouldWriteError(Exception):
    """A folder would have to be written to go on, which only the process that asked does."""


@dataclass(frozen=True)
class _Reading:
    """A store in which nothing is written."""

    store: ContentStore

    def read(self, identity: str) -> bytes:
        return self.store.read(identity)

    def put(self, data: bytes) -> ContentInfo:
        identity = content_id(data)
        if self.store.segments.find(bytes.fromhex(identity)) is None:
            raise _WouldWriteError
        return ContentInfo(identity, len(data))


def look_ahead(
    opened: Callable[[], ContentStore], store: str, states: States, told: Callable[[int], None]
) -> list[Seen | None]:
    """What changed from state to state, in the store that ``opened`` gives; None where that is so much, or such, that
    whoever asked works it out when it is needed. ``store``: which of several is looked in first."""
    with in_store(store):
        return list(_looked_at(_Reading(opened()), states, told))


def _looked_at(store: _Reading, states: States, told: Callable[[int], None]) -> Iterator[Seen | None]:
    trees, held = Trees(store, _CACHED_ROWS), 0
    for done, (before, after) in enumerate(states):
        told(done)
        seen = _seen(store, trees, before or trees.empty, after) if held < _MOST_IN_BATCH else None
        held += len(seen.changes.files) if seen is not None else 0
        yield seen


def _seen(store: _Reading, trees: Trees, before: str, after: str) -> Seen | None:
    try:
        changes = file_changes(trees, before, after)
        if len(changes.files) > _MOST_FILES:
            return None
        return Seen(changes, wholes_of(store, trees, before, after, changes))
    except _WouldWriteError:
        return None
