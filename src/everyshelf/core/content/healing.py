"""Bring back, from another place that holds the same bytes, what is damaged or missing here.

Every record of the source is looked for here and read. One that is missing or does not read back is taken over, if what
the source holds gives the bytes of its id. It goes into a new segment. A segment with a damaged part is then rewritten
without it, if it is known what lay there (its directory is older than the damage) and all of that reads back; else it
stays as it is. What a run that is cut short has brought back stays, too.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from dataclasses import dataclass

import zstandard

from everyshelf.core.content.deltas import base_of, decode_delta
from everyshelf.core.content.new_segments import NewSegments
from everyshelf.core.content.place import Place, Readable
from everyshelf.core.content.records import DELTAS, RECIPE, UNPACKED, Record
from everyshelf.core.content.scanning import SegmentContents, directory_name, iter_records, segment_names
from everyshelf.core.content.store import ContentStore, hash_of, unpacked
from everyshelf.core.content.stores import store_of
from everyshelf.core.errors import BrokenError

Progress = Callable[[int, int], None]


@dataclass(frozen=True)
class Healed:
    """How many pieces were looked at, how many brought back, and how many are damaged in the source, too; how many
    segments were rewritten without their damage."""

    looked_at: int
    brought_back: int
    damaged_there: int
    rewritten: int = 0


def heal(store: ContentStore, source: Readable, progress: Progress = lambda done, total: None) -> Healed:
    """Bring back into ``store`` what ``source`` holds whole. Nothing in ``source`` is written."""
    names = segment_names(source)
    sizes = {name: source.size(name) for name in names}
    total, before = sum(sizes.values()), 0
    into = _ByStore(store.segments.place)
    looked = brought = damaged = 0
    there: dict[tuple[str, bytes], Record] = {}
    try:
        for name in names:
            lies_in = store_of(name)
            for offset, record in iter_records(source, name):
                progress(before + offset, total)
                looked += 1
                if record.codec not in DELTAS and _reads_back(store, record.id):
                    continue
                if record.codec in DELTAS:
                    there[lies_in, record.id] = record  # looked at when all that are whole are back
                elif _is_sound(record, unpacked(record)):
                    into.append(record, lies_in)
                    brought += 1
                else:
                    damaged += 1
            before += sizes[name]
        into.finish()  # the bases of deltas are looked for in them
        store.segments.refresh()
        for (lies_in, _), record in there.items():
            progress(total, total)
            if _reads_back(store, record.id):
                continue
            base = store.segments.fetch(base_of(record), complete=True) if _reads_back(store, base_of(record)) else None
            if base is not None and _is_sound(record, decode_delta(record, unpacked(base))):
                into.append(record, lies_in)
                brought += 1
            else:
                damaged += 1
    finally:
        into.finish()  # even when cut short: others may rely on what is back already
    store.segments.refresh()
    _drop_lost(store)
    return Healed(looked, brought, damaged, _rewrite_damaged(store))


class _ByStore:
    """New segments of each store to which something is brought back: it belongs where it lay."""

    def __init__(self, place: Place) -> None:
        self._place = place
        self._of: dict[str, NewSegments] = {}

    def append(self, record: Record, store: str) -> None:
        if store not in self._of:
            self._of[store] = NewSegments(self._place, store)
        self._of[store].append(record)

    def finish(self) -> None:
        for one in self._of.values():
            one.finish()


def _drop_lost(store: ContentStore) -> None:
    """Forget segments whose bytes are gone, once all that lay in them lies elsewhere."""
    place = store.segments.place
    for directory in store.segments.sealed():
        try:
            place.read(directory.segment, 0, 1)
        except FileNotFoundError:
            if all(_reads_back(store, directory.row(row)[0]) for row in range(len(directory))):
                place.remove(directory.segment)
                place.remove(directory_name(directory.segment))
    store.segments.refresh()


def _rewrite_damaged(store: ContentStore) -> int:
    """Rewrite segments without their damaged parts, once all that lay in them reads back; gives how many."""
    place, count = store.segments.place, 0
    for directory in store.segments.sealed():
        seen = SegmentContents(directory.segment)
        with contextlib.suppress(FileNotFoundError):
            seen.scan(place, final=True)
        rows = [directory.row(row) for row in range(len(directory))]
        if not seen.damage or directory.damage or not all(_reads_back(store, identity) for identity, _ in rows):
            continue
        kept = NewSegments(place, store_of(directory.segment))
        for _, where in sorted(rows, key=lambda row: row[1].offset):
            with contextlib.suppress(BrokenError):  # it lies elsewhere, too
                kept.append(store.segments.read(where))
        kept.finish()
        place.remove(directory.segment)
        place.remove(directory_name(directory.segment))
        count += 1
    store.segments.refresh()
    return count


def _reads_back(store: ContentStore, identity: bytes) -> bool:
    try:
        record = store.segments.fetch(identity)
        return record is not None and _is_sound(record, store.unpack(record))
    except (BrokenError, zstandard.ZstdError):
        return False


def _is_sound(record: Record, data: bytes) -> bool:
    """Whether these are the bytes of its id; what a recipe names is looked at by itself."""
    return record.kind in (RECIPE, UNPACKED) or hash_of(record.kind, data) == record.id
