"""Keep what is much like an earlier version as deltas.

Made apart from taking contents in, which stays quick: the deltas lie in segments of their own under the ids of the
pieces they say, and ``compacting`` then drops the longer form.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from everyshelf.core.content.deltas import CAREFUL, QUICK, Likeness, base_of, encode_delta, marks_of
from everyshelf.core.content.new_segments import NewSegments
from everyshelf.core.content.records import BASE_BYTES, DELTAS, Record
from everyshelf.core.content.store import ContentStore
from everyshelf.core.content.unpacked_versions import UnpackedVersions

# A delta that saves less is not worth the second read; and the whole piece is then a nearer base for what follows.
_WORTH = 0.5
_SMALLEST = 1024
_CAREFUL_BYTES = 16 * 1024 * 1024  # of a content
_MOST_MARKS = 20_000  # pieces whose marks are held: a content of a gigabyte, 3 MB

Progress = Callable[[int, int], None]


class Shrinker:
    """Makes deltas of the pieces of contents against those of earlier ones."""

    def __init__(self, store: ContentStore, into: NewSegments) -> None:
        self._store = store
        self._into = into
        self._unpacked = UnpackedVersions(store, into)
        self._made: dict[bytes, bytes] = {}  # pieces that are deltas since this run began, and their bases
        self._bases: set[bytes] = set()
        self._marks: OrderedDict[bytes, NDArray[np.uint64]] = OrderedDict()
        self._saved = 0

    @property
    def saved(self) -> int:
        """Bytes that this run saved."""
        return self._saved + self._unpacked.saved

    def shrink(self, identity: str, older: str, progress: Progress = lambda done, total: None) -> int:
        """Make deltas of those pieces of a content that ``older`` has not got but something much like it; returns how
        many. Raises ``MissingError`` and ``BrokenError`` as reading does."""
        if self._store.lies_outside(older) or self._store.lies_outside(identity):
            return 0
        if not self._lies_there(older) or not self._lies_there(identity):
            return 0  # a delta lies where all lies that it needs
        made = self._unpacked.shrink(identity, older, progress)
        if made is not None:
            return made
        if self._store.layout(older) is not None or self._store.layout(identity) is not None:
            return 0
        before = dict.fromkeys(piece for piece, _ in self._store.pieces(older))
        pieces = dict(self._store.pieces(identity))
        fresh = [piece for piece, size in pieces.items() if piece not in before and size >= _SMALLEST]
        gone = [piece for piece in before if piece not in pieces]
        if not fresh or not gone:
            return 0
        level = CAREFUL if sum(pieces.values()) <= _CAREFUL_BYTES else QUICK
        total, likeness = len(gone) + len(fresh), Likeness()
        for done, base in enumerate(dict.fromkeys(self._whole_of(piece) for piece in gone)):
            progress(done, total)
            likeness.add(base, self._marks_of(base))
        made = 0
        for done, piece in enumerate(fresh, len(gone)):
            progress(done, total)
            made += self._shrink_piece(piece, likeness, level)
        return made

    def _lies_there(self, identity: str) -> bool:
        return self._store.segments.lies_in(self._into.store, bytes.fromhex(identity))

    def _whole_of(self, piece: bytes) -> bytes:
        """The piece itself, or the one it is kept against."""
        if piece in self._made:
            return self._made[piece]
        record = self._fetch(piece)
        return base_of(record) if record.codec in DELTAS else piece

    def _shrink_piece(self, piece: bytes, likeness: Likeness, level: int) -> bool:
        if piece in self._made or piece in self._bases:
            return False
        record = self._fetch(piece)
        if record.codec in DELTAS:
            return False
        data = self._store.unpack(record)
        base = likeness.most_like(data)
        if base is None or base == piece:
            return False
        delta = encode_delta(record, data, base, self._bytes_of(base), level)
        if len(delta.payload) + BASE_BYTES > _WORTH * len(record.payload):
            return False
        self._into.append(delta)
        self._made[piece] = base
        self._bases.add(base)
        self._saved += len(record.payload) - len(delta.payload)
        return True

    def _marks_of(self, base: bytes) -> NDArray[np.uint64]:
        """Worked out once for all the versions that follow one another."""
        if base not in self._marks:
            self._marks[base] = marks_of(self._bytes_of(base))
            if len(self._marks) > _MOST_MARKS:
                self._marks.popitem(last=False)
        return self._marks[base]

    def _bytes_of(self, base: bytes) -> bytes:
        return self._store.unpack(self._fetch(base, complete=True))

    def _fetch(self, piece: bytes, *, complete: bool = False) -> Record:
        return self._store.fetch_piece(piece, complete=complete)
