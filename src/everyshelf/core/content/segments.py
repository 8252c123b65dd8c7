"""Segments: append-only files of checked records, each with a sorted directory that can be rebuilt by scanning
(``scanning``).

Every process appends to a segment of its own, of each store (``stores``) into which it writes; a segment that no
process owns is sealed: its torn end is cut off and a directory is written beside it. A sealed segment may be removed by
another process once what it held lies elsewhere (``compacting``): whoever finds it gone looks again.
"""

from __future__ import annotations

import contextlib
import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass

from everyshelf.core.content.directory import Directories, Directory, WrongDirectoryError
from everyshelf.core.content.in_use import Users
from everyshelf.core.content.place import Appender, Place
from everyshelf.core.content.records import HEAD_BYTES, Damage, Location, Record, decode, encode
from everyshelf.core.content.scanning import (
    SegmentContents,
    directory_name,
    iter_records,
    read_directory,
    segment_names,
    write_directory,
)
from everyshelf.core.content.stores import MAIN, SEGMENT, current_store, new_segment_name, store_of
from everyshelf.core.errors import BrokenError, StorageError

SEGMENT_BYTES = 256 * 1024 * 1024
# Of a segment that is added to every process keeps each place as an object, three times what it takes once sealed.
SEGMENT_RECORDS = 16_384
_MOST_TRIES = 5


@dataclass
class _Own:
    """A segment that this process adds to."""

    contents: SegmentContents
    appender: Appender
    began_ns: int
    synced_end: int = 0


class Segments:
    """All segments of a place: append to one's own, find and read in all. Safe to use from several threads."""

    def __init__(self, place: Place) -> None:
        self.place = place
        self._lock = threading.RLock()
        self._sealed = Directories()
        self._live: dict[str, SegmentContents] = {}
        self._own: dict[str, _Own] = {}  # by store
        self._stores: set[str] = {MAIN}
        self.users = Users(place, self.refresh)
        self.refresh()

    # --- finding -----------------------------------------------------------

    def find(self, identity: bytes, *, refresh: bool = False, complete: bool = False) -> Location | None:
        """Return where the record is. ``refresh``: look again for what other processes wrote if it is not known;
        ``complete``: look only for records that are stored whole."""
        with self._lock:
            where = self._find(identity, complete)
            if where is None and refresh:
                self.refresh()
                where = self._find(identity, complete)
            return where

    def _find(self, identity: bytes, complete: bool = False) -> Location | None:
        """The first that is found; of several stores the one of the code around this, which may be the only one that
        can be reached."""
        found, store = None, current_store()
        for where in self._all(identity):
            if complete and where.delta:
                continue
            if len(self._stores) == 1 or store_of(where.segment) == store:
                return where
            found = found or where
        return found

    def _all(self, identity: bytes) -> Iterator[Location]:
        for live in self._live.values():
            where = live.locations.get(identity)
            if where is not None:
                yield where
        yield from self._all_sealed(identity)

    def _all_sealed(self, identity: bytes) -> list[Location]:
        sure: set[str] = set()
        for _ in range(_MOST_TRIES):
            try:
                return list(self._sealed.find_all(identity, sure))
            except WrongDirectoryError as error:
                self._make_again(error.segment)
                sure.add(error.segment)
        raise BrokenError("the directories of the content store change while they are read")

    def _make_again(self, segment: str) -> None:
        """Read a directory again that was damaged since it was read, or scan its segment; forget what is gone."""
        for name in (segment, directory_name(segment)):
            self.place.forget(name)
        self._sealed.remove({segment})
        with contextlib.suppress(FileNotFoundError):
            self._sealed.add([self._load_directory(segment)])

    def holds(self, identity: bytes, store: str | None = None) -> bool:
        """For whoever writes: whether the piece is in the store (else: the one of the code around this) and stays there
        (``in_use``), so that it need not be stored."""
        store = current_store() if store is None else store
        with self._lock:
            return any(
                not self.users.condemned.holds(where.segment, identity)
                for where in self._all(identity)
                if store_of(where.segment) == store
            )

    def stores(self) -> set[str]:
        """The stores of which there are segments, and the main one."""
        with self._lock:
            return set(self._stores)

    def lies_in(self, store: str, identity: bytes) -> bool:
        """Whether a record of that id lies in the store."""
        with self._lock:
            return any(store_of(where.segment) == store for where in self._all(identity))

    def sealed_in(self, store: str, identity: bytes) -> list[Location]:
        """Where records of an id lie in segments of a store to which nothing is added any more."""
        with self._lock:
            return [where for where in self._all_sealed(identity) if store_of(where.segment) == store]

    def fetch(self, identity: bytes, *, complete: bool = False) -> Record | None:
        """The record, wherever it lies by now, or None; raises ``BrokenError`` where none of its copies reads back."""
        tries = 0
        while (where := self.find(identity, refresh=True, complete=complete)) is not None:
            try:
                return self._read_of(identity, where)
            except FileNotFoundError as error:  # it was moved into another segment meanwhile
                tries += 1
                if tries == _MOST_TRIES:
                    copy = self._other_copy(identity, where, complete=complete)
                    if copy is None:
                        raise BrokenError(f"segment {where.segment} is named by a directory and not there") from error
                    return copy
                self.refresh()
            except BrokenError:
                tries += 1
                if tries < _MOST_TRIES and self._was_led_astray(where):
                    continue
                copy = self._other_copy(identity, where, complete=complete)
                if copy is None:
                    raise
                return copy
        return None

    def _read_of(self, identity: bytes, where: Location) -> Record:
        record = self.read(where)
        if record.id != identity:
            raise BrokenError(f"segment {where.segment}: another record lies at byte {where.offset}")
        return record

    def _was_led_astray(self, where: Location) -> bool:
        """Whether a place was told by a directory that was damaged since it was read, which is made again then, or lay
        in a segment that another process has rewritten: what is still open of that one reads as it was."""
        with self._lock:
            if where.segment not in self._sealed:
                return False
            self.place.forget(directory_name(where.segment))
            try:
                if read_directory(self.place, where.segment) is not None:
                    return False
            except FileNotFoundError:
                self.refresh()
            else:
                self._make_again(where.segment)
            return True

    def find_forms(self, identity: bytes) -> list[Location]:
        """Where records of an id lie: twice, whole and as a delta, as they came and unpacked."""
        with self._lock:
            return list(self._all(identity))

    def fetch_forms(self, identity: bytes) -> list[Record]:
        """Every record of an id that reads back. Raises ``BrokenError`` where there are some and none does."""
        places, found = self.find_forms(identity), []
        for where in places:
            with contextlib.suppress(BrokenError, FileNotFoundError):
                found.append(self.read(where))
        if places and not found:
            raise BrokenError(f"record {identity.hex()[:12]} is damaged wherever it lies")
        return found

    def _other_copy(self, identity: bytes, damaged: Location, *, complete: bool) -> Record | None:
        """One that reads back, of what is damaged in one place."""
        self.refresh()
        for where in self.find_forms(identity):
            if where != damaged and not (complete and where.delta):
                with contextlib.suppress(BrokenError, FileNotFoundError):
                    return self.read(where)
        return None

    def read(self, where: Location) -> Record:
        """The record at ``where``; raises ``BrokenError`` if its checksum or its place does not hold."""
        guess = self.place.read(where.segment, where.offset, HEAD_BYTES + where.raw_bytes)
        decoded = decode(guess, where.segment)
        if decoded is None:
            raise BrokenError(f"segment {where.segment}: the record at byte {where.offset} is damaged")
        return decoded[0]

    def damage(self) -> list[Damage]:
        """The damaged ranges that were met so far, by segment and place."""
        with self._lock:
            known = [d for sealed in self._sealed for d in sealed.damage]
            known += [d for live in self._live.values() for d in live.damage]
        return sorted(known, key=lambda d: (d.segment, d.start))

    def inspect(self) -> list[Damage]:
        """The damaged ranges of all segments, read again from end to end, even where the directory is good."""
        self.refresh()
        damage: list[Damage] = []
        for name in segment_names(self.place):
            with contextlib.suppress(FileNotFoundError):
                live = SegmentContents(name)
                live.scan(self.place, final=name in self._sealed)
                damage += live.damage
        return damage

    def sealed(self, store: str | None = None) -> list[Directory]:
        """As ``known``, of one store or all, with their entries read into memory."""
        with self._lock:
            self.refresh()
            names = [one.segment for one in self._sealed if store is None or store_of(one.segment) == store]
            return [whole for name in names if (whole := self._whole_directory(name)) is not None]

    def _whole_directory(self, name: str) -> Directory | None:
        """All of a directory in memory; None if its segment is gone."""
        found = self._sealed.in_memory(name)
        if found is None:
            with contextlib.suppress(FileNotFoundError):
                found = self._load_directory(name)
        return found

    def known(self) -> list[Directory]:
        """The directories of all segments that nothing is added to any more, as of now, without their entries."""
        with self._lock:
            self.refresh()
            return list(self._sealed)

    def refresh(self) -> None:
        """Take notice of segments that came, grew or were given up by their process since the last look."""
        with self._lock:
            if self.place.changed():
                self._look_around()
            own = {one.contents.name for one in self._own.values()}
            for live in list(self._live.values()):
                if live.name not in own:
                    with contextlib.suppress(FileNotFoundError):
                        live.scan(self.place, final=False)

    def _look_around(self) -> None:
        names = set(self.place.names())
        gone = {known.segment for known in self._sealed} - names
        self._sealed.remove(gone)
        own = {one.contents.name for one in self._own.values()}
        for name in gone | {name for name in self._live if name not in own and name not in names}:
            self.place.forget(name)
            self._live.pop(name, None)
        sealed: list[Directory | None] = []
        segments = sorted(name for name in names if name.endswith(SEGMENT))
        self._stores = {MAIN, *self._own, *map(store_of, segments)}
        for name in segments:
            if name in self._sealed or name in own:
                continue
            with contextlib.suppress(FileNotFoundError):  # removed since the names were read
                if directory_name(name) in names:
                    sealed.append(self._load_directory(name))
                else:
                    sealed.append(self._seal_orphan(name))
        self._sealed.add(directory for directory in sealed if directory is not None)

    def _seal_orphan(self, name: str) -> Directory | None:
        """The directory of a segment that no process owns, else None; one that is owned is followed as it grows."""
        appender = self.place.own(name)
        if appender is None:
            self._live.setdefault(name, SegmentContents(name))
            return None
        live = self._live.pop(name, None) or SegmentContents(name)
        live.scan(self.place, final=True)
        return self._seal(live, appender)

    def _load_directory(self, name: str) -> Directory:
        directory = read_directory(self.place, name)
        if directory is None:
            live = SegmentContents(name)
            live.scan(self.place, final=True)
            directory = write_directory(self.place, live)
        self._live.pop(name, None)
        return directory

    def _seal(self, live: SegmentContents, appender: Appender) -> Directory | None:
        """The directory of a segment that nothing is added to any more; None for one that holds nothing."""
        if live.torn_at is not None:
            appender.truncate(live.torn_at)  # nothing that was acknowledged lies there
            appender.sync()
        directory = None
        if live.locations or live.damage:
            directory = write_directory(self.place, live)
        elif live.torn_at == 0 or not self.place.size(live.name):
            self.place.remove(live.name)
        appender.close()
        return directory

    def rebuild(self) -> int:
        """Scan every sealed segment again and write its directory; returns the number of records found."""
        with self._lock:
            rebuilt = []
            for known in self._sealed:
                live = SegmentContents(known.segment)
                live.scan(self.place, final=True)
                rebuilt.append(write_directory(self.place, live))
            self._sealed.replace(rebuilt)
            return sum(len(directory) for directory in rebuilt)

    # --- writing -----------------------------------------------------------

    def append(self, record: Record, store: str | None = None) -> None:
        """Add a record to this process's own segment of the store (else: of the one of the code around this); durable
        only after ``sync``."""
        store = current_store() if store is None else store
        with self._lock:
            if self.holds(record.id, store):
                return
            own = self._own.get(store)
            if own is None or _is_full(own.contents):
                own = self._begin(store)
            offset = own.contents.end
            own.appender.append(encode(record, own.contents.name))
            own.contents.note(offset, record)

    def _begin(self, store: str) -> _Own:
        self._end(store)
        name = new_segment_name(store)
        own = _Own(SegmentContents(name), self.place.create(name), time.time_ns())
        self._own[store] = own
        self._live[name] = own.contents
        self._stores.add(store)
        return own

    def sync(self) -> None:
        """Return once everything appended so far is durable; raises ``StorageError`` and forgets it if it cannot be."""
        with self._lock:
            for store in list(self._own):
                self._sync(store)

    def _sync(self, store: str) -> None:
        own = self._own[store]
        if own.contents.end == own.synced_end:
            return
        try:
            own.appender.sync()
        except StorageError:
            self._forget_unsynced(store)
            raise
        own.synced_end = own.contents.end

    def _forget_unsynced(self, store: str) -> None:
        """After a failed fsync the kernel may call the same pages clean the next time although they were never written
        (fsync(2), "Error handling"): what was not durable before is stored again in another segment."""
        own = self._own.pop(store)
        seen = own.contents
        seen.locations = {i: where for i, where in seen.locations.items() if where.offset < own.synced_end}
        seen.torn_at = own.synced_end
        with contextlib.suppress(StorageError):
            self._take_up(self._seal(seen, own.appender))
        self._live.pop(seen.name, None)

    def _take_up(self, sealed: Directory | None) -> None:
        if sealed is not None:
            self._sealed.add([sealed])

    def seal_if_asked(self) -> None:
        """Seal those of this process's own segments that began before that was asked for (``Place.ask_to_seal``)."""
        if self._own:
            asked = self.place.asked_ns()
            with self._lock:
                for store in [store for store, own in self._own.items() if asked > own.began_ns]:
                    self._end(store)

    def close(self) -> None:
        """Seal this process's own segments."""
        with self._lock:
            for store in list(self._own):
                self._end(store)

    def _end(self, store: str) -> None:
        if store in self._own:
            self._sync(store)
            own = self._own.pop(store)
            self._take_up(self._seal(self._live.pop(own.contents.name), own.appender))

    def iter_all(self) -> Iterator[tuple[str, int, Record]]:
        """Segment, offset and record of everything stored, in no promised order."""
        for name in segment_names(self.place):
            for offset, record in iter_records(self.place, name):
                yield name, offset, record


def _is_full(seen: SegmentContents) -> bool:
    return seen.end >= SEGMENT_BYTES or len(seen.locations) >= SEGMENT_RECORDS
