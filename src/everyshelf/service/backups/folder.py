"""Backups in a folder, best on another disk."""

from __future__ import annotations

import fcntl
import os
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from blake3 import blake3

from everyshelf.core.content.place import FolderPlace, Place, Readable
from everyshelf.core.durable import sync_folder, to_disk, write_durably
from everyshelf.core.errors import ConflictError, InvalidError, StorageError
from everyshelf.service.backups.layout import (
    FORM,
    MARK,
    NAME,
    PIECE_BYTES,
    RECORDS,
    Backups,
    SavedSegment,
    not_backups,
    oldest_first,
    other_form,
)

_LOCK = ".lock"


class BackupFolder(Backups):
    """A folder of backups."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.told = str(path)
        self.segments = path / "segments"
        self.moments = path / "moments"

    @classmethod
    def open(cls, path: Path) -> BackupFolder:
        """One that is there; raises ``MissingError`` or ``BrokenError``."""
        mark = path / MARK
        if not mark.is_file():
            raise not_backups(str(path))
        if mark.read_text(errors="replace") != FORM:
            raise other_form(str(path))
        return cls(path)

    @classmethod
    def make(cls, path: Path) -> BackupFolder:
        """One that is there, or a new one in a folder that is empty or missing; raises ``InvalidError``."""
        mark = path / MARK
        if not mark.exists():
            if path.exists() and any(path.iterdir()):
                raise InvalidError(
                    f"{path} has other files",
                    code="backup.taken",
                    hint="Name an empty folder, or one that does not exist yet.",
                )
            path.mkdir(parents=True, exist_ok=True, mode=0o700)
            write_durably(mark, FORM.encode())
        found = cls.open(path)
        found.segments.mkdir(exist_ok=True, mode=0o700)
        found.moments.mkdir(exist_ok=True, mode=0o700)
        return found

    @contextmanager
    def alone(self) -> Iterator[None]:
        with (self.path / _LOCK).open("w") as lock:
            try:
                fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError as error:
                raise ConflictError(
                    f"another backup is being written to {self.path}",
                    code="backup.busy",
                    hint="Wait until it is done.",
                ) from error
            yield

    def names(self) -> list[str]:
        if not self.moments.is_dir():
            return []
        return oldest_first(one.name for one in self.moments.iterdir() if NAME.match(one.name))

    def file(self, moment: str, name: str) -> bytes:
        path = self.moments / moment / name
        with _reading(path):
            return path.read_bytes()

    def records(self, moment: str) -> Iterator[bytes]:
        return _pieces(self.moments / moment / RECORDS)

    def pieces(self, segment: SavedSegment) -> Iterator[bytes]:
        return _pieces(self.segments / segment.name, segment.size)

    def part(self, segment: SavedSegment, offset: int, length: int) -> bytes:
        path = self.segments / segment.name
        with _reading(path), path.open("rb") as file:
            file.seek(offset)
            return file.read(max(0, min(length, segment.size - offset)))

    @contextmanager
    def at_hand(self, segment: SavedSegment) -> Iterator[Readable]:
        yield FolderPlace(self.segments)

    def has(self, segment: SavedSegment) -> bool:
        return _length(self.segments / segment.name) >= segment.size

    @contextmanager
    def preparing(self, name: str) -> Iterator[Path]:
        hidden = Path(tempfile.mkdtemp(prefix=f".{name}.", dir=self.moments))
        try:
            yield hidden
        finally:
            shutil.rmtree(hidden, ignore_errors=True)

    def publish(self, name: str, prepared: Path) -> None:
        sync_folder(prepared)
        os.rename(prepared, self.moments / name)
        sync_folder(self.moments)

    def settle(self) -> None:
        sync_folder(self.segments)

    def remove(self, moments: list[str]) -> None:
        for name in moments:
            hidden = self.moments / f".{name}.gone"
            os.rename(self.moments / name, hidden)
            shutil.rmtree(hidden)
        sync_folder(self.moments)

    def sweep(self, needed: list[SavedSegment]) -> None:
        names = {segment.name for segment in needed}
        for path in self.segments.iterdir():
            if path.name not in names:
                path.unlink()

    def save(self, place: Place, name: str, size: int, before: SavedSegment | None) -> SavedSegment:
        """Add to the file what it lacks, and read all of it back."""
        target = self.segments / name
        start = min(before.size if before is not None else 0, _length(target), size)
        digest = _copied(place, name, target, size, start)
        if start and hash_of(target, size) != digest:  # what was there was damaged since
            digest = _copied(place, name, target, size, 0)
        if hash_of(target, size) != digest:
            raise StorageError(
                f"{target} does not read back as it was written",
                code="backup.storage",
                hint="The disk of the backup may be failing: name another one.",
            )
        return SavedSegment(name, size, digest)


def _length(path: Path) -> int:
    try:
        return path.stat().st_size
    except FileNotFoundError:
        return 0


def _copied(place: Place, name: str, target: Path, size: int, start: int) -> str:
    """Copy the bytes from ``start``; gives the BLAKE3 of all of them as they were read."""
    descriptor = os.open(target, os.O_RDWR | os.O_CREAT, 0o600)
    digest, at = blake3(), 0
    with os.fdopen(descriptor, "r+b") as file:
        file.truncate(start)  # what lies behind was written by a backup that was cut short
        while at < size:
            piece = place.read(name, at, min(PIECE_BYTES, size - at))
            if not piece:
                raise StorageError(f"{name} is shorter than it was", code="backup.storage", hint="Try again.")
            digest.update(piece)
            if at + len(piece) > start:
                skipped = max(0, start - at)
                file.seek(at + skipped)
                file.write(piece[skipped:])
            at += len(piece)
        to_disk(file)
        os.posix_fadvise(file.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)  # so that the disk is read, not memory
    return digest.hexdigest()


def hash_of(path: Path, size: int) -> str:
    """BLAKE3 of the first ``size`` bytes of a file, in hex; of fewer if it is shorter."""
    digest = blake3()
    with path.open("rb") as file:
        while size > 0 and (piece := file.read(min(PIECE_BYTES, size))):
            digest.update(piece)
            size -= len(piece)
    return digest.hexdigest()


def _pieces(path: Path, size: int | None = None) -> Iterator[bytes]:
    with _reading(path):
        file = path.open("rb")
    with file:
        left = size if size is not None else path.stat().st_size
        while left > 0:
            with _reading(path):  # does not include the yield: errors of the caller are not errors of reading
                piece = file.read(min(PIECE_BYTES, left))
            if not piece:
                return
            yield piece
            left -= len(piece)


@contextmanager
def _reading(path: Path) -> Iterator[None]:
    """What keeps a file of the backup from being read is told apart from what keeps others from being written."""
    try:
        yield
    except FileNotFoundError:
        raise
    except OSError as error:
        raise StorageError(
            f"{path} cannot be read: {error.strerror or error}",
            code="backup.unread",
            hint="Look at the disk of the backup, and at your rights there. Nothing was changed.",
        ) from error
