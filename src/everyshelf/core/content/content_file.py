"""Stored content as a file that is read, for whoever wants one: a web server, a library."""

from __future__ import annotations

import io
from bisect import bisect_right

from everyshelf.core.content.store import ContentStore
from everyshelf.core.content.stores import current_store, in_store


class ContentFile(io.RawIOBase):
    """Bytes ``start`` to ``stop`` of a content, with seeking. Holds two pieces of at most 256 KiB.

    The first piece is read at once, so that what is missing or damaged there raises ``MissingError`` or ``BrokenError``
    here; ``read`` raises them for what comes later.
    """

    def __init__(self, store: ContentStore, identity: str, start: int = 0, stop: int | None = None) -> None:
        super().__init__()
        self._store, self._first = store, current_store()
        self._identity = identity
        self._pieces = store.pieces(identity)
        self._ends: list[int] = []
        size = 0
        for _, length in self._pieces:
            size += length
            self._ends.append(size)
        self._start = min(start, size)
        self._stop = size if stop is None else min(stop, size)
        self._at = 0
        self._held: dict[int, bytes] = {}
        if self._start < self._stop:
            self._piece(bisect_right(self._ends, self._start))

    def readable(self) -> bool:
        """Always."""
        return True

    def seekable(self) -> bool:
        """Always."""
        return True

    def tell(self) -> int:
        """Where the next read begins."""
        return self._at

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        """Go there; not before the beginning."""
        origin = {io.SEEK_SET: 0, io.SEEK_CUR: self._at, io.SEEK_END: self._stop - self._start}[whence]
        self._at = max(0, origin + offset)
        return self._at

    def read(self, size: int | None = -1) -> bytes:
        """Up to ``size`` bytes, at most to the end of one piece unless all are asked for; empty at the end."""
        left = self._stop - self._start - self._at
        if size is None or size < 0:
            return b"".join(iter(lambda: self.read(1 << 20), b""))
        if left <= 0 or not size:
            return b""
        place = self._start + self._at
        number = bisect_right(self._ends, place)
        offset = place - (self._ends[number - 1] if number else 0)
        data = self._piece(number)[offset : offset + min(size, left)]
        self._at += len(data)
        return data

    def readinto(self, buffer: bytearray | memoryview) -> int:  # type: ignore[override]
        """Fill ``buffer`` as far as one piece reaches."""
        data = self.read(len(buffer))
        buffer[: len(data)] = data
        return len(data)

    def _piece(self, number: int) -> bytes:
        if number not in self._held:
            if len(self._held) > 1:
                del self._held[next(iter(self._held))]
            with in_store(self._first):  # it is read after the request that opened it
                self._held[number] = self._store.read_piece(self._identity, self._pieces[number][0])
        return self._held[number]
