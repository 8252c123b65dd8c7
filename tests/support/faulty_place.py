"""A place for segments whose disk can fail in ways that ``kill -9`` never shows."""

from __future__ import annotations

from pathlib import Path

from everyshelf.core.content.place import Appender, FolderPlace
from everyshelf.core.errors import StorageError


class FaultyPlace(FolderPlace):
    """Keeps apart what was written and what was made durable: ``lose_power`` keeps only the latter.

    ``syncs``: how many more times ``sync`` succeeds (None: always). ``writes``: how often ``write_whole`` does.
    """

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self.syncs: int | None = None
        self.writes: int | None = None
        self._durable: dict[str, int] = {}

    def create(self, name: str) -> Appender:
        return _FaultyAppender(self, name, super().create(name))

    def own(self, name: str) -> Appender | None:
        appender = super().own(name)
        if appender is not None:
            self._durable.setdefault(name, self.size(name))
        return None if appender is None else _FaultyAppender(self, name, appender)

    def write_whole(self, name: str, data: bytes) -> None:
        if self.writes is not None:
            self.writes -= 1
            if self.writes < 0:
                raise StorageError(f"{name} could not be written: no room")
        super().write_whole(name, data)

    def note_durable(self, name: str) -> None:
        self._durable[name] = self.size(name)

    def lose_power(self) -> None:
        """What was not made durable reads as nothing from now on."""
        for path in self.folder.glob("*.seg"):
            with path.open("r+b") as file:
                file.truncate(self._durable.get(path.name, 0))


class _FaultyAppender(Appender):
    def __init__(self, place: FaultyPlace, name: str, inner: Appender) -> None:
        self._place = place
        self._name = name
        self._inner = inner

    def append(self, data: bytes) -> None:
        self._inner.append(data)

    def sync(self) -> None:
        if self._place.syncs is not None:
            self._place.syncs -= 1
            if self._place.syncs < 0:
                raise StorageError(f"{self._name} could not be made durable: input/output error")
        self._inner.sync()
        self._place.note_durable(self._name)

    def truncate(self, size: int) -> None:
        self._inner.truncate(size)

    def close(self) -> None:
        self._inner.close()
