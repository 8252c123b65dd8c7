"""Bring into a store what the shelves that live there need and only another one has.

What is taken in for a shelf goes into its store; a shelf that is moved to another store, or takes over what another
shelf has, needs a copy. Records are copied as they are, a delta with the piece it is kept against, and lie durably in
new segments before anything elsewhere is let go of.
"""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass

from everyshelf.core.content.deltas import base_of
from everyshelf.core.content.new_segments import NewSegments
from everyshelf.core.content.place import Place
from everyshelf.core.content.records import DELTAS, HEAD_BYTES, RECIPE, UNPACKED, Location, Record
from everyshelf.core.content.store import ContentStore
from everyshelf.core.errors import BrokenError, OutOfReachError

_TOLD_EVERY = 64

Progress = Callable[[int, int], None]


@dataclass(frozen=True)
class Gathered:
    """How many pieces were copied, how many bytes they take, and the contents (ids) of which a part could not be."""

    pieces: int
    size: int
    left: set[bytes]


def gather(
    store: ContentStore, into: str, contents: Collection[bytes], progress: Progress = lambda done, total: None
) -> Gathered:
    """Let all these contents (ids) lie in sealed segments of the store ``into``; the caller holds ``Place.alone``.

    What is damaged or out of reach where it lies is left, and told. A call of ``progress`` that raises ends it; what
    was copied before stays.
    """
    segments = store.segments
    run = _Run(store, NewSegments(segments.place, into), lambda identity: segments.sealed_in(into, identity))
    try:
        left = run.bring_all(contents, progress)
    finally:
        run.finish()
        segments.refresh()
    return Gathered(run.pieces, run.size, left)


def copy_into(
    store: ContentStore, place: Place, contents: Collection[bytes], progress: Progress = lambda done, total: None
) -> Gathered:
    """Write all these contents (ids) into segments of another place, which has none yet."""
    run = _Run(store, NewSegments(place), lambda _identity: [])
    left = run.bring_all(contents, progress)
    run.finish()
    return Gathered(run.pieces, run.size, left)


class _Run:
    """``there``: where records of an id lie already in the store into which things are brought."""

    def __init__(self, store: ContentStore, new: NewSegments, there: Callable[[bytes], list[Location]]) -> None:
        self._store, self._new, self._there = store, new, there
        self._brought: set[bytes] = set()
        self._whole: set[bytes] = set()  # pieces brought that are not deltas
        self.pieces = self.size = 0

    def bring_all(self, contents: Collection[bytes], progress: Progress) -> set[bytes]:
        """Bring these contents, in no promised order; gives those of which a part is damaged or out of reach."""
        left = set()
        for done, identity in enumerate(contents):
            if not done % _TOLD_EVERY:
                progress(done, len(contents))
            try:
                self.bring(identity)
            except (BrokenError, OutOfReachError, FileNotFoundError):
                left.add(identity)
        return left

    def bring(self, identity: bytes) -> None:
        """A content with all its pieces. Nothing happens where it is not stored at all."""
        there = self._there(identity)
        if there:
            # What is one record is not read: most contents are, and a store may be far away.
            records = [self._store.segments.read(where) for where in there if where.kind in (RECIPE, UNPACKED)]
        else:
            found = self._bring_record(identity)
            records = [found] if found is not None else []
        for piece in {piece for record in records for piece in self._store.pieces_of(record)}:
            if not self._there(piece) and self._bring_record(piece) is None:
                raise BrokenError(f"piece {piece.hex()[:12]} of a content is not stored here")

    def _bring_record(self, identity: bytes) -> Record | None:
        record = self._store.segments.fetch(identity)
        if record is not None and identity not in self._brought:
            if record.codec in DELTAS:
                self._base(base_of(record))
            self._copy(record)
        return record

    def _base(self, identity: bytes) -> None:
        """What a delta is kept against lies whole where the delta lies."""
        there = self._there(identity)
        if identity not in self._whole and all(where.delta for where in there):
            self._copy(self._store.fetch_piece(identity, complete=True))

    def _copy(self, record: Record) -> None:
        self._new.append(record)
        self._brought.add(record.id)
        if record.codec not in DELTAS:
            self._whole.add(record.id)
        self.pieces += 1
        self.size += HEAD_BYTES + len(record.payload)

    def finish(self) -> None:
        self._new.finish()
