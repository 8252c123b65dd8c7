"""Segments: append-only files of checked records, each with a sorted directory that can be rebuilt by scanning
(``scanning``).

Every process appends to a segment of its own; a segment that no process owns is sealed: its torn end is cut off and a
directory is written beside it. A sealed segment may be removed by another process once what it held lies elsewhere
(``compacting``): whoever finds it gone looks again.
"""

from __future__ import annotations

import contextlib
import threading
import time
import uuid
from collections.abc import Iterator

from everyshelf.core.content.directory import Directories, Directory
from everyshelf.core.content.in_use import Users
from everyshelf.core.content.place import Appender, Place
from everyshelf.core.content.records import HEAD_BYTES, Damage, Location, Record, decode, encode
from everyshelf.core.content.scanning import (
    SEGMENT,
    SegmentContents,
    directory_name,
    iter_records,
    segment_names,
    write_directory,
)
from everyshelf.core.errors import BrokenError, StorageError

SEGMENT_BYTES = 256 * 1024 * 1024
_MOST_TRIES = 5


class Segments:
    """All segments of a place: append to one's own, find and read in all. Safe to use from several threads."""

    def __init__(self, place: Place, *, segment_bytes: int = SEGMENT_BYTES) -> None:
        self.place = place
        self._segment_bytes = segment_bytes
        self._lock = threading.RLock()
        self._sealed = Directories()
        self._live: dict[str, SegmentContents] = {}
        self._own: SegmentContents | None = None
        self._appender: Appender | None = None
        self._synced_end = 0
        self._began_ns = 0
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
        for live in self._live.values():
            where = live.locations.get(identity)
            if where is not None and not (complete and where.delta):
                return where
        return self._sealed.find(identity, complete=complete)

    def holds(self, identity: bytes) -> bool:
        """For whoever writes: whether the piece is here and stays (``in_use``), so that it need not be stored."""
        with self._lock:
            where = self._find(identity)
            return where is not None and not self.users.condemned.holds(where.segment, identity)

    def fetch(self, identity: bytes, *, complete: bool = False) -> Record | None:
        """The record, wherever it lies by now, or None; raises ``BrokenError`` where none of its copies reads back."""
        tries = 0
        while (where := self.find(identity, refresh=True, complete=complete)) is not None:
            try:
                return self.read(where)
            except FileNotFoundError as error:  # it was moved into another segment meanwhile
                tries += 1
                if tries == _MOST_TRIES:
                    copy = self._other_copy(identity, where, complete=complete)
                    if copy is None:
                        raise BrokenError(f"segment {where.segment} is named by a directory and not there") from error
                    return copy
                self.refresh()
            except BrokenError:
                copy = self._other_copy(identity, where, complete=complete)
                if copy is None:
                    raise
                return copy
        return None

    def find_forms(self, identity: bytes) -> list[Location]:
        """Where records of an id lie: twice, whole and as a delta, as they came and unpacked."""
        with self._lock:
            live = [one.locations[identity] for one in self._live.values() if identity in one.locations]
            return [*live, *self._sealed.find_all(identity)]

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

    def sealed(self) -> list[Directory]:
        """The directories of all segments that nothing is added to any more, as of now."""
        with self._lock:
            self.refresh()
            return list(self._sealed)

    def refresh(self) -> None:
        """Take notice of segments that came, grew or were given up by their process since the last look."""
        with self._lock:
            if self.place.changed():
                self._look_around()
            for live in list(self._live.values()):
                if live is not self._own:
                    with contextlib.suppress(FileNotFoundError):
                        live.scan(self.place, final=False)

    def _look_around(self) -> None:
        names = set(self.place.names())
        gone = {known.segment for known in self._sealed} - names
        self._sealed.remove(gone)
        for name in gone | {name for name, live in self._live.items() if live is not self._own and name not in names}:
            self.place.forget(name)
            self._live.pop(name, None)
        sealed: list[Directory | None] = []
        for name in sorted(n for n in names if n.endswith(SEGMENT)):
            if name in self._sealed or (self._own is not None and name == self._own.name):
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
        stored = directory_name(name)
        data = self.place.read(stored, 0, self.place.size(stored))
        directory = Directory.parse(name, data, self.place.size(name))
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

    def append(self, record: Record) -> None:
        """Add a record to this process's own segment; durable only after ``sync``."""
        with self._lock:
            if self.holds(record.id):
                return
            if self._own is None or self._own.end >= self._segment_bytes:
                self._roll()
            assert self._own is not None and self._appender is not None
            offset = self._own.end
            self._appender.append(encode(record, self._own.name))
            self._own.note(offset, record)

    def _roll(self) -> None:
        self.close()
        name = f"{uuid.uuid4().hex}{SEGMENT}"
        self._appender = self.place.create(name)
        self._own = self._live[name] = SegmentContents(name)
        self._synced_end = 0
        self._began_ns = time.time_ns()

    def sync(self) -> None:
        """Return once everything appended so far is durable; raises ``StorageError`` and forgets it if it cannot be."""
        with self._lock:
            if self._appender is None or self._own is None or self._own.end == self._synced_end:
                return
            try:
                self._appender.sync()
            except StorageError:
                self._forget_unsynced()
                raise
            self._synced_end = self._own.end

    def _forget_unsynced(self) -> None:
        """After a failed fsync the kernel may call the same pages clean the next time although they were never written
        (fsync(2), "Error handling"): what was not durable before is stored again in another segment."""
        own, appender = self._own, self._appender
        assert own is not None and appender is not None
        self._own = self._appender = None
        own.locations = {i: where for i, where in own.locations.items() if where.offset < self._synced_end}
        own.torn_at = self._synced_end
        with contextlib.suppress(StorageError):
            self._take_up(self._seal(own, appender))
        self._live.pop(own.name, None)

    def _take_up(self, sealed: Directory | None) -> None:
        if sealed is not None:
            self._sealed.add([sealed])

    def seal_if_asked(self) -> None:
        """Seal this process's own segment if that was asked for since it began (``Place.ask_to_seal``)."""
        if self._own is not None and self.place.asked_ns() > self._began_ns:
            self.close()

    def close(self) -> None:
        """Seal this process's own segment."""
        with self._lock:
            if self._own is not None and self._appender is not None:
                self.sync()
                self._take_up(self._seal(self._live.pop(self._own.name), self._appender))
                self._own = self._appender = None

    def iter_all(self) -> Iterator[tuple[str, int, Record]]:
        """Segment, offset and record of everything stored, in no promised order."""
        for name in segment_names(self.place):
            for offset, record in iter_records(self.place, name):
                yield name, offset, record
