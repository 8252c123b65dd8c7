"""Rewrite segments that hold much that nothing needs, and many small ones as one.

A piece may lie in a place more than once: whole and as a delta, as it came and unpacked, or twice because two processes
took the same bytes in. One form of each is kept. Laws:

- A kept delta's base is kept whole, so that reading never follows more than one delta.
- What is kept lies durably in a new segment before the old one is removed: a crash leaves both, and the next run goes
  on from there. Readers who find a segment gone look for the piece again (``Segments.fetch``).
- A segment with damaged ranges stays as it is: it is what a person may still want to look at, and ``verify`` names it.

Each store (``stores``) is looked at by itself: what lies in two is needed in both.

Only one process does this at a time, and none while a backup is made (``Place.alone``).
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from everyshelf.core.content.deltas import base_of, decode_delta
from everyshelf.core.content.directory import Directory
from everyshelf.core.content.new_segments import NewSegments
from everyshelf.core.content.records import RECIPE, UNPACKED, Location, Record
from everyshelf.core.content.scanning import DIRECTORY, directory_name, segment_names
from everyshelf.core.content.segments import SEGMENT_BYTES, Segments
from everyshelf.core.content.store import ContentStore, hash_of, unpacked
from everyshelf.core.content.stores import MAIN, SEGMENT
from everyshelf.core.errors import BrokenError

# A segment is rewritten when so much of it is not needed: at most four bytes are moved for one that is freed. Of small
# ones any: that costs little.
_DEAD = 0.25
_SMALL = SEGMENT_BYTES // 16
_FEW = 16

Progress = Callable[[int, int], None]
ReadsBack = Callable[[Record], bool]


@dataclass(frozen=True)
class Compacted:
    """What a run did: segments rewritten, bytes of the sealed ones before and after, pieces dropped that were to be."""

    segments: int
    before: int
    after: int
    dropped: int = 0


@dataclass(frozen=True)
class Holding:
    """What a place holds: bytes of all segments; records in those that are sealed, and how many of them are deltas."""

    bytes: int
    records: int
    deltas: int


class _Survey:
    """Every record of every sealed segment of a store, as columns: the segment's number, row in its directory, length,
    and whether it is needed."""

    def __init__(self, segments: Segments, store: str) -> None:
        self.segments = segments
        self.directories: list[Directory] = segments.sealed(store)
        self.sizes = [segments.place.size(one.segment) for one in self.directories]
        counts = [len(one) for one in self.directories]
        self.owners = np.repeat(np.arange(len(counts)), counts)
        self.rows = np.concatenate([np.arange(count) for count in counts] or [np.zeros(0, np.int64)])
        self.prefixes = np.concatenate([one.prefixes for one in self.directories] or [np.zeros(0, np.uint64)])
        self.deltas = np.concatenate([one.deltas for one in self.directories] or [np.zeros(0, np.bool_)])
        lengths = [_lengths(one, size) for one, size in zip(self.directories, self.sizes, strict=True)]
        self.lengths = np.concatenate(lengths or [np.zeros(0, np.int64)])
        self.needed = np.ones(len(self.owners), np.bool_)
        self.dropped: list[int] = []
        self._order = np.argsort(self.prefixes, kind="stable")
        self._sorted = self.prefixes[self._order]

    def id_of(self, place: int) -> bytes:
        return self._row(place)[0]

    def kind_of(self, place: int) -> int:
        return self._row(place)[1].kind

    def read(self, place: int) -> Record:
        """The record; raises ``BrokenError`` if it is damaged."""
        return self.segments.read(self._row(place)[1])

    def _row(self, place: int) -> tuple[bytes, Location]:
        directory: Directory = self.directories[int(self.owners[place])]
        return directory.row(int(self.rows[place]))

    def holders_of(self, identity: bytes) -> list[int]:
        """The places of this survey whose record has this id."""
        prefix = np.uint64(int.from_bytes(identity[:8], "big"))
        start, stop = np.searchsorted(self._sorted, prefix, "left"), np.searchsorted(self._sorted, prefix, "right")
        return [int(place) for place in self._order[start:stop] if self.id_of(int(place)) == identity]

    def drop(self, ids: set[bytes], within: frozenset[str]) -> None:
        """Need none of these pieces in these segments; but no base of a delta that stays."""
        concerned = np.isin(self.owners, [k for k, one in enumerate(self.directories) if one.segment in within])
        dropped = {place: self.id_of(place) for place in np.flatnonzero(concerned).tolist()}
        dropped = {place: identity for place, identity in dropped.items() if identity in ids}
        bases = set()
        for place in np.flatnonzero(self.deltas).tolist():
            if place not in dropped:
                bases.add(base_of(self.read(place)))
        self.dropped = [place for place, identity in dropped.items() if identity not in bases]
        self.needed[self.dropped] = False

    def choose(self, reads_back: ReadsBack | None) -> None:
        """Decide which record of each piece is needed."""
        twice = np.unique(self._sorted[1:][self._sorted[1:] == self._sorted[:-1]])
        several = (np.isin(self.prefixes, twice) | self.deltas) & self.needed
        by_id: dict[bytes, list[int]] = {}
        for place in np.flatnonzero(several).tolist():
            by_id.setdefault(self.id_of(place), []).append(place)
        kept = _Kept(self, by_id, reads_back)
        for places in by_id.values():
            if len(places) > 1:
                self.needed[places] = False
        for identity, places in by_id.items():
            if len(places) > 1:
                self.needed[kept.of(identity, places)] = True  # all of them where none reads back


class _Kept:
    """Which of several records of a piece are kept: one that reads back, and every kept delta has its base whole."""

    def __init__(self, survey: _Survey, by_id: dict[bytes, list[int]], reads_back: ReadsBack | None) -> None:
        self._survey = survey
        self._reads_back = reads_back
        self._whole: set[bytes] = set()  # pieces that must stay whole
        self._as_delta: dict[bytes, int] = {}
        waiting = []
        for identity, places in sorted(by_id.items()):
            deltas = [place for place in places if survey.deltas[place]]
            if not deltas:
                continue
            smallest = min(deltas, key=lambda place: int(survey.lengths[place]))
            if len(deltas) < len(places):
                waiting.append((identity, smallest))
            elif len(places) == 1:  # nothing to choose, and its base is not to be had in another form
                with contextlib.suppress(BrokenError):
                    self._whole.add(base_of(survey.read(smallest)))
            else:
                for place in deltas:
                    with contextlib.suppress(BrokenError):
                        self._whole.add(base_of(survey.read(place)))
        for identity, place in waiting:
            if identity not in self._whole:
                self._take_delta(identity, place)

    def _take_delta(self, identity: bytes, place: int) -> None:
        """Keep the delta if it gives the bytes of its piece; these are read once more before their long form goes."""
        try:
            record = self._survey.read(place)
            base = base_of(record)
            if base == identity:
                return
            holders = [one for one in self._survey.holders_of(base) if not self._survey.deltas[one]]
            holders = [one for one in holders if self._survey.needed[one]]
            if not holders or base in self._as_delta:
                return
            data = decode_delta(record, unpacked(self._survey.read(holders[0])))
        except BrokenError:
            return
        if hash_of(record.kind, data) == identity:
            self._whole.add(base)
            self._as_delta[identity] = place

    def of(self, identity: bytes, places: list[int]) -> list[int]:
        """The record to keep; all where none reads back."""
        if identity in self._as_delta:
            return [self._as_delta[identity]]
        whole = [place for place in places if not self._survey.deltas[place]] or places
        unpacked_forms = [place for place in whole if self._survey.kind_of(place) == UNPACKED]
        if unpacked_forms and len(unpacked_forms) < len(whole):
            whole = self._of_forms(unpacked_forms, [place for place in whole if place not in unpacked_forms])
        # In the largest segment: that is the one rewritten last.
        whole.sort(key=lambda place: -self._survey.sizes[int(self._survey.owners[place])])
        for place in whole:
            with contextlib.suppress(BrokenError):
                self._survey.read(place)
                return [place]
        return places

    def _of_forms(self, as_steps: list[int], as_it_came: list[int]) -> list[int]:
        """Those that are kept unpacked if all of it reads back, else those as they came."""
        reads_back = self._reads_back or (lambda _record: False)
        for place in as_steps:
            with contextlib.suppress(BrokenError):
                if reads_back(self._survey.read(place)):
                    return [place]
        return [*as_it_came, *as_steps]


def _lengths(directory: Directory, size: int) -> NDArray[np.int64]:
    """How long each record of a segment is; a damaged range counts with what lies before it."""
    offsets = directory.offsets.astype(np.int64)
    order = np.argsort(offsets, kind="stable")
    ends = np.append(offsets[order][1:], size)
    lengths = np.empty(len(offsets), np.int64)
    lengths[order] = ends - offsets[order]
    return lengths


def holding(segments: Segments) -> Holding:
    """What the place holds now, by the directories of its segments."""
    known, size = segments.known(), 0
    for name in segment_names(segments.place):
        with contextlib.suppress(FileNotFoundError):
            size += segments.place.size(name)
    return Holding(size, sum(len(one) for one in known), sum(one.delta_count for one in known))


def compact(
    segments: Segments,
    progress: Progress = lambda done, total: None,
    *,
    of: str = MAIN,
    drop: set[bytes] | None = None,
    within: frozenset[str] = frozenset(),
    reads_back: ReadsBack | None = None,
) -> Compacted:
    """Rewrite the segments of a store that are worth it; the caller holds ``Place.alone``. ``drop``: pieces of which
    nothing needs what lies in the segments ``within``. ``reads_back``: whether a content that is kept unpacked gives
    its bytes; without it the form as it came is kept. A call of ``progress`` that raises leaves all as it was."""
    place = segments.place
    names = set(place.names())
    for name in names:
        if name.endswith(DIRECTORY) and name.removesuffix(DIRECTORY) + SEGMENT not in names:
            place.remove(name)  # of a segment that a run before this one removed, and was then killed
    seen = _Survey(segments, of)
    if drop:
        seen.drop(drop, within)
    seen.choose(reads_back)
    chosen = _worth_it(seen)
    before = sum(seen.sizes)
    if not chosen:
        return Compacted(0, before, before)
    into = NewSegments(place, of)
    total, done = sum(seen.sizes[number] for number in chosen), 0
    moved = []
    try:
        for number in chosen:
            if _move(seen, number, into, lambda part, so_far=done: progress(so_far + part, total)):  # type: ignore[misc]
                moved.append(number)
            done += seen.sizes[number]
        into.finish()
    except BaseException:
        into.drop()
        raise
    for number in moved:
        name = seen.directories[number].segment
        place.remove(name)
        place.remove(directory_name(name))
    segments.refresh()
    added = sum(place.size(name) for name in into.names)
    after = before + added - sum(seen.sizes[number] for number in moved)
    return Compacted(len(moved), before, after, sum(int(seen.owners[place]) in moved for place in seen.dropped))


def _worth_it(seen: _Survey) -> list[int]:
    """The segments to rewrite."""
    dead = np.bincount(seen.owners[~seen.needed], seen.lengths[~seen.needed], len(seen.sizes))
    whole = [k for k, one in enumerate(seen.directories) if not one.damage]
    holed = {k for k in whole if dead[k] > (0 if seen.sizes[k] < _SMALL else _DEAD * seen.sizes[k])}
    small = {k for k in whole if seen.sizes[k] - dead[k] < _SMALL}
    return sorted(holed | small if len(small) >= _FEW else holed)


def _move(seen: _Survey, number: int, into: NewSegments, progress: Callable[[int], None]) -> bool:
    """Write what is needed of a segment; False if some of it turned out to be damaged: then the segment stays."""
    directory = seen.directories[number]
    rows = seen.rows[(seen.owners == number) & seen.needed]
    for row in sorted(rows.tolist(), key=lambda one: int(directory.offsets[one])):
        where = directory.row(row)[1]
        progress(where.offset)
        try:
            into.append(seen.segments.read(where))
        except BrokenError:
            return False
    return True


@dataclass(frozen=True)
class Unreached:
    """Pieces that nothing reaches: their ids, how many bytes they take, and the segments that were looked at."""

    ids: list[bytes]
    bytes: int
    segments: list[str]


def find_unreached(store: ContentStore, contents: set[bytes], of: str = MAIN) -> Unreached:
    """What in the sealed segments of a store no content of ``contents`` (ids) is made of, as pieces or as what their
    deltas need. Raises ``BrokenError`` where one cannot be read: what it is made of is not known then."""
    seen = _Survey(store.segments, of)
    reached = set(contents)
    for identity in contents:
        if any(where.kind in (RECIPE, UNPACKED) for where in store.segments.find_forms(identity)):
            reached |= store.stored_pieces(identity)
    for place in np.flatnonzero(seen.deltas).tolist():
        if seen.id_of(place) in reached:
            reached.add(base_of(seen.read(place)))
    left = {place: identity for place in range(len(seen.owners)) if (identity := seen.id_of(place)) not in reached}
    size = int(seen.lengths[list(left)].sum()) if left else 0
    return Unreached(sorted(set(left.values())), size, [one.segment for one in seen.directories])
