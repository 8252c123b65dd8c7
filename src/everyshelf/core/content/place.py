"""Where segments live: one small interface, and its folder form.

A place keeps named, append-only byte files. Everything above it (records, directories, recovery) is in ``segments``.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
from abc import ABC, abstractmethod
from pathlib import Path

from everyshelf.core.errors import StorageError


class Appender(ABC):
    """The one handle that may write a file; others may read it meanwhile."""

    @abstractmethod
    def append(self, data: bytes) -> None:
        """Add ``data`` at the end, or raise ``StorageError`` and leave the file as it was."""

    @abstractmethod
    def sync(self) -> None:
        """Return once everything appended is on stable storage."""

    @abstractmethod
    def truncate(self, size: int) -> None:
        """Cut the file off after ``size`` bytes."""

    @abstractmethod
    def close(self) -> None:
        """Give the file up; another process may then own it."""


class Place(ABC):
    """Named byte files; ``name`` holds no separators."""

    @abstractmethod
    def names(self) -> list[str]:
        """All names, sorted."""

    @abstractmethod
    def create(self, name: str) -> Appender:
        """Create ``name`` and own it; it must not exist."""

    @abstractmethod
    def own(self, name: str) -> Appender | None:
        """Own an existing file, or None while another process does."""

    @abstractmethod
    def size(self, name: str) -> int:
        """Length in bytes."""

    @abstractmethod
    def read(self, name: str, offset: int, length: int) -> bytes:
        """Up to ``length`` bytes from ``offset``; shorter at the end of the file."""

    @abstractmethod
    def write_whole(self, name: str, data: bytes) -> None:
        """Create or replace ``name`` in one step, or raise ``StorageError`` and leave it as it was."""

    @abstractmethod
    def remove(self, name: str) -> None:
        """Remove ``name``; nothing happens if it is gone already."""


class _FileAppender(Appender):
    def __init__(self, path: Path, descriptor: int) -> None:
        self._path = path
        self._descriptor = descriptor
        self._size = os.fstat(descriptor).st_size

    def append(self, data: bytes) -> None:
        view, at = memoryview(data), 0
        try:
            while at < len(view):
                at += os.pwrite(self._descriptor, view[at:], self._size + at)
        except OSError as error:
            with contextlib.suppress(OSError):
                os.ftruncate(self._descriptor, self._size)
            raise StorageError(f"{self._path.name} could not grow: {error.strerror}") from error
        self._size += len(view)

    def sync(self) -> None:
        try:
            os.fsync(self._descriptor)
        except OSError as error:
            raise StorageError(f"{self._path.name} could not be made durable: {error.strerror}") from error

    def truncate(self, size: int) -> None:
        try:
            os.ftruncate(self._descriptor, size)
        except OSError as error:
            raise StorageError(f"{self._path.name} could not be cut off: {error.strerror}") from error
        self._size = size

    def close(self) -> None:
        os.close(self._descriptor)


class FolderPlace(Place):
    """A folder on a local disk. Ownership is an ``flock``, which the kernel lets go of when a process dies."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        folder.mkdir(parents=True, exist_ok=True)
        self._open: dict[str, int] = {}

    def names(self) -> list[str]:
        return sorted(n for n in os.listdir(self.folder) if not n.startswith("."))

    def create(self, name: str) -> Appender:
        path, hidden = self.folder / name, self.folder / f".{name}"
        try:
            descriptor = os.open(hidden, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600)
        except OSError as error:
            raise StorageError(f"{path} could not be created: {error.strerror}") from error
        # Locked before anybody can see it: another process would take an unlocked file for an orphan.
        fcntl.flock(descriptor, fcntl.LOCK_EX)
        try:
            os.rename(hidden, path)
            self._sync_folder()
        except OSError as error:
            os.close(descriptor)
            hidden.unlink(missing_ok=True)
            raise StorageError(f"{path} could not be created: {error.strerror}") from error
        return _FileAppender(path, descriptor)

    def own(self, name: str) -> Appender | None:
        try:
            descriptor = os.open(self.folder / name, os.O_RDWR | os.O_CLOEXEC)
        except FileNotFoundError:
            return None  # another process took the orphan up, found it empty and removed it
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            os.close(descriptor)
            return None
        return _FileAppender(self.folder / name, descriptor)

    def size(self, name: str) -> int:
        return (self.folder / name).stat().st_size

    def read(self, name: str, offset: int, length: int) -> bytes:
        descriptor = self._open.get(name)
        if descriptor is None:
            descriptor = self._open.setdefault(name, os.open(self.folder / name, os.O_RDONLY | os.O_CLOEXEC))
        return os.pread(descriptor, length, offset)

    def write_whole(self, name: str, data: bytes) -> None:
        temporary = self.folder / f".{name}.{os.getpid()}.part"
        try:
            with temporary.open("wb") as file:
                file.write(data)
                file.flush()
                os.fsync(file.fileno())
            os.replace(temporary, self.folder / name)
            self._sync_folder()
        except OSError as error:
            temporary.unlink(missing_ok=True)
            raise StorageError(f"{self.folder / name} could not be written: {error.strerror}") from error

    def remove(self, name: str) -> None:
        descriptor = self._open.pop(name, None)
        if descriptor is not None:
            os.close(descriptor)
        (self.folder / name).unlink(missing_ok=True)

    def _sync_folder(self) -> None:
        descriptor = os.open(self.folder, os.O_RDONLY)
        try:
            os.fsync(descriptor)
        finally:
            os.close(descriptor)
