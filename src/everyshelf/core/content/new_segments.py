"""Write records into segments of their own, apart from what this process takes in: deltas, and what is moved."""

from __future__ import annotations

import contextlib

from everyshelf.core.content.place import Appender, Place
from everyshelf.core.content.records import Record, encode
from everyshelf.core.content.scanning import SegmentContents, write_directory
from everyshelf.core.content.segments import SEGMENT_BYTES
from everyshelf.core.content.stores import MAIN, new_segment_name
from everyshelf.core.errors import StorageError


class NewSegments:
    """Segments of one store of a place that one writer fills. Nothing counts on them before ``finish``; ``drop`` takes
    back those that are not finished."""

    def __init__(self, place: Place, store: str = MAIN) -> None:
        self._place = place
        self.store = store
        self._now: SegmentContents | None = None
        self._appender: Appender | None = None
        self.names: list[str] = []

    def append(self, record: Record) -> None:
        """Add a record, in a next segment when this one is full."""
        if self._now is None or self._now.end >= SEGMENT_BYTES:
            self._seal()
            name = new_segment_name(self.store)
            self._appender = self._place.create(name)
            self._now = SegmentContents(name)
            self.names.append(name)
        assert self._appender is not None
        self._appender.append(encode(record, self._now.name))
        self._now.note(self._now.end, record)

    def finish(self) -> None:
        """Return once all of it is durable, with directories."""
        self._seal()

    def drop(self) -> None:
        """Remove what was written."""
        if self._appender is not None:
            self._appender.close()
            self._now = self._appender = None
        for name in self.names:
            with contextlib.suppress(StorageError, OSError):
                self._place.remove(name)
        self.names = []

    def _seal(self) -> None:
        if self._now is None or self._appender is None:
            return
        self._appender.sync()
        write_directory(self._place, self._now)
        self._appender.close()
        self._now = self._appender = None
