"""Where segments live: one small interface, and its folder form.

A place keeps named, append-only byte files. Everything above it (records, directories, recovery) is in ``segments``.
"""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
import threading
import time
from abc import ABC, abstractmethod
from collections import OrderedDict
from collections.abc import Iterator
from contextlib import AbstractContextManager
from dataclasses import dataclass
from pathlib import Path

from everyshelf.core.durable import replace_durably, sync_folder
from everyshelf.core.errors import ConflictError, StorageError

_MOST_OPEN = 40
_ALONE, _ASKED = ".alone", ".asked-to-seal"
_SETTLED_NS = 100_000_000


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


class Readable(ABC):
    """Named byte files that are read; ``name`` holds no separators."""

    @abstractmethod
    def names(self) -> list[str]:
        """All names, sorted."""

    @abstractmethod
    def size(self, name: str) -> int:
        """Length in bytes; raises ``FileNotFoundError``."""

    @abstractmethod
    def read(self, name: str, offset: int, length: int) -> bytes:
        """Up to ``length`` bytes from ``offset``; shorter at the end of the file."""


class Place(Readable):
    """Named byte files that are written, too."""

    def changed(self) -> bool:
        """Return False only if the names are certainly the same as at the last call."""
        return True

    @abstractmethod
    def create(self, name: str) -> Appender:
        """Create ``name`` and own it; it must not exist."""

    @abstractmethod
    def own(self, name: str) -> Appender | None:
        """Own an existing file, or None while another process does."""

    @abstractmethod
    def write_whole(self, name: str, data: bytes) -> None:
        """Create or replace ``name`` in one step, or raise ``StorageError`` and leave it as it was."""

    @abstractmethod
    def remove(self, name: str) -> None:
        """Remove ``name``; nothing happens if it is gone already."""

    @abstractmethod
    def forget(self, name: str) -> None:
        """Keep nothing open of a file that another process removed."""

    @abstractmethod
    def ask_to_seal(self) -> None:
        """Ask all who own a file, in any process, to close it soon and go on in another."""

    @abstractmethod
    def asked_ns(self) -> int:
        """When they were last asked, in nanoseconds since 1970; 0 for never."""

    @abstractmethod
    def read_note(self, name: str) -> bytes:
        """A small file about the others, not among their names; empty if it was never written."""

    @abstractmethod
    def write_note(self, name: str, data: bytes) -> None:
        """Write such a file in one step."""

    @abstractmethod
    def note_stamp(self, name: str) -> object:
        """What is another whenever that file was written."""

    @abstractmethod
    def shared(self, name: str) -> AbstractContextManager[None]:
        """Hold ``name``, with others in any process, for as long as the block lasts."""

    @abstractmethod
    def are_unshared(self, prefix: str, *, but: str) -> bool:
        """Whether nobody in any process holds a name that begins with ``prefix``, ``but`` for one; forgets those that
        nobody holds. Whoever takes a name must look afterwards whether it is still meant."""

    @abstractmethod
    def alone(self, *, wait: bool = False) -> AbstractContextManager[None]:
        """Be the only one in any process who removes files or relies on none being removed; raises ``ConflictError`` if
        another is, unless it is to ``wait``."""


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


@dataclass
class _OpenFile:
    descriptor: int
    readers: int = 0
    stays: bool = True


class _OpenFiles:
    """Reads files of a folder; the most recently read ones stay open."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._open: OrderedDict[str, _OpenFile] = OrderedDict()
        self._lock = threading.Lock()

    def read(self, name: str, offset: int, length: int) -> bytes:
        """Up to ``length`` bytes from ``offset``."""
        with self._lock:
            file = self._open.get(name)
            if file is None:
                file = _OpenFile(os.open(self._folder / name, os.O_RDONLY | os.O_CLOEXEC))
                self._open[name] = file
                if len(self._open) > _MOST_OPEN:
                    self._let_go(next(iter(self._open)))
            self._open.move_to_end(name)
            file.readers += 1
        try:
            return os.pread(file.descriptor, length, offset)
        finally:
            with self._lock:
                file.readers -= 1
                self._close_unused(file)

    def forget(self, name: str) -> None:
        """Close the file once nothing reads it any more."""
        with self._lock:
            if name in self._open:
                self._let_go(name)

    def _let_go(self, name: str) -> None:
        file = self._open.pop(name)
        file.stays = False
        self._close_unused(file)

    @staticmethod
    def _close_unused(file: _OpenFile) -> None:
        if not file.stays and not file.readers:
            os.close(file.descriptor)


class FolderPlace(Place):
    """A folder on a local disk. Ownership is an ``flock``, which the kernel lets go of when a process dies."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        folder.mkdir(parents=True, exist_ok=True)
        self._files = _OpenFiles(folder)
        self._seen_ns: int | None = None  # when the folder had changed last, where that is settled

    def names(self) -> list[str]:
        return sorted(n for n in os.listdir(self.folder) if not n.startswith("."))

    def changed(self) -> bool:
        now, changed_ns = time.time_ns(), self.folder.stat().st_mtime_ns
        if changed_ns == self._seen_ns:
            return False
        # What changes within one tick of the clock has one stamp: only an older stamp can be relied on.
        self._seen_ns = changed_ns if now - changed_ns > _SETTLED_NS else None
        return True

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
            sync_folder(self.folder)
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
        return self._files.read(name, offset, length)

    def write_whole(self, name: str, data: bytes) -> None:
        temporary = self.folder / f".{name}.{os.getpid()}.part"
        try:
            replace_durably(self.folder / name, data, temporary)
        except OSError as error:
            raise StorageError(f"{self.folder / name} could not be written: {error.strerror}") from error
        self._files.forget(name)

    def remove(self, name: str) -> None:
        self._files.forget(name)
        (self.folder / name).unlink(missing_ok=True)

    def forget(self, name: str) -> None:
        self._files.forget(name)

    def ask_to_seal(self) -> None:
        now = time.time_ns()  # the clock of the file system is a few milliseconds behind
        try:
            (self.folder / _ASKED).touch(0o600)
            os.utime(self.folder / _ASKED, ns=(now, now))
        except OSError as error:
            raise StorageError(f"{self.folder} cannot be written to: {error.strerror}") from error

    def asked_ns(self) -> int:
        try:
            return (self.folder / _ASKED).stat().st_mtime_ns
        except FileNotFoundError:
            return 0

    def read_note(self, name: str) -> bytes:
        try:
            return (self.folder / name).read_bytes()
        except FileNotFoundError:
            return b""

    def write_note(self, name: str, data: bytes) -> None:
        self.write_whole(name, data)

    def note_stamp(self, name: str) -> object:
        try:
            seen = (self.folder / name).stat()
        except FileNotFoundError:
            return None
        return seen.st_ino, seen.st_mtime_ns, seen.st_size

    @contextlib.contextmanager
    def shared(self, name: str) -> Iterator[None]:
        descriptor = self._opened(name)
        if descriptor is None:
            yield
            return
        try:
            fcntl.flock(descriptor, fcntl.LOCK_SH)
            yield
        finally:
            os.close(descriptor)

    def _opened(self, name: str) -> int | None:
        """None where the disk became read-only and has no such file: nothing can be removed there either."""
        try:
            return os.open(self.folder / name, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        except OSError as error:
            if error.errno != errno.EROFS:
                raise
        try:
            return os.open(self.folder / name, os.O_RDONLY | os.O_CLOEXEC)
        except FileNotFoundError:
            return None

    def are_unshared(self, prefix: str, *, but: str) -> bool:
        names = [name for name in os.listdir(self.folder) if name.startswith(prefix) and name != but]
        held = [name for name in names if not self._forget_unshared(name)]
        return not held

    def _forget_unshared(self, name: str) -> bool:
        try:
            descriptor = os.open(self.folder / name, os.O_RDWR | os.O_CLOEXEC)
        except FileNotFoundError:
            return True
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
            (self.folder / name).unlink(missing_ok=True)
        except BlockingIOError:
            return False
        finally:
            os.close(descriptor)
        return True

    @contextlib.contextmanager
    def alone(self, *, wait: bool = False) -> Iterator[None]:
        descriptor = os.open(self.folder / _ALONE, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | (0 if wait else fcntl.LOCK_NB))
            yield
        except BlockingIOError as error:
            raise ConflictError(
                f"{self.folder} is being copied or tidied already",
                code="content.busy",
                hint="Try again when that is done.",
            ) from error
        finally:
            os.close(descriptor)
