"""What was saved of segments at a moment, as a place that is only read."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from typing import NoReturn

from everyshelf.core.content.place import Appender, Place
from everyshelf.core.errors import StorageError
from everyshelf.service.backups.layout import Backups, Moment


class SavedPlace(Place):
    """The segments of a moment. Directories are not saved: whoever opens a store over this reads all of it once."""

    def __init__(self, backups: Backups, moment: Moment) -> None:
        self._backups = backups
        self._segments = {segment.name: segment for segment in moment.segments}

    def names(self) -> list[str]:
        return sorted(self._segments)

    def size(self, name: str) -> int:
        return self._segments[name].size

    def read(self, name: str, offset: int, length: int) -> bytes:
        return self._backups.part(self._segments[name], offset, length)

    def own(self, name: str) -> Appender | None:
        """None, as of one that another process adds to: nothing is written beside it."""
        return None

    def create(self, name: str) -> Appender:
        self._refuse()

    def write_whole(self, name: str, data: bytes) -> None:
        self._refuse()

    def remove(self, name: str) -> None:
        self._refuse()

    def write_note(self, name: str, data: bytes) -> None:
        self._refuse()

    def ask_to_seal(self) -> None:
        self._refuse()

    def _refuse(self) -> NoReturn:
        raise StorageError(f"{self._backups.told} is only read")

    def forget(self, name: str) -> None:
        """Nothing is kept open."""

    def asked_ns(self) -> int:
        return 0

    def read_note(self, name: str) -> bytes:
        return b""

    def note_stamp(self, name: str) -> object:
        return None

    @contextlib.contextmanager
    def shared(self, name: str) -> Iterator[None]:
        yield

    def are_unshared(self, prefix: str, *, but: str) -> bool:
        return True

    @contextlib.contextmanager
    def alone(self, *, wait: bool = False) -> Iterator[None]:
        yield
