"""Backups below a prefix of a bucket of an S3-compatible service.

Objects are written whole and not changed (but for one that was found damaged), so a segment that grew is another
object: ``NAME.seg-LENGTH``. What a backup needs has been there for as long as the backup takes; objects that no moment
needs are therefore removed only when they are a day old.
"""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path

from blake3 import blake3

from everyshelf.core.content.place import FolderPlace, Place, Readable
from everyshelf.core.errors import InvalidError, StorageError
from everyshelf.service.backups.layout import (
    FORM,
    MARK,
    MOMENT,
    NAME,
    PIECE_BYTES,
    RECORDS,
    Backups,
    SavedSegment,
    not_backups,
    oldest_first,
    other_form,
)
from everyshelf.storage.bucket import Bucket

_UNNEEDED_FOR = timedelta(days=1)


class BackupBucket(Backups):
    """Backups in a bucket. Its objects are listed whenever the moments are asked for, and followed in between."""

    def __init__(self, bucket: Bucket) -> None:
        self._bucket = bucket
        self.told = str(bucket.address)
        self._objects = bucket.names()

    @classmethod
    def open(cls, bucket: Bucket) -> BackupBucket:
        """One that is there; raises ``MissingError``, ``BrokenError`` or ``OutOfReachError``."""
        found = cls(bucket)
        if MARK not in found._objects:
            raise not_backups(found.told)
        if bucket.read(MARK, 0, 1000) != FORM.encode():
            raise other_form(found.told)
        return found

    @classmethod
    def make(cls, bucket: Bucket) -> BackupBucket:
        """One that is there, or a new one where nothing lies below the prefix; raises ``InvalidError``."""
        found = cls(bucket)
        if MARK not in found._objects:
            if found._objects:
                raise InvalidError(
                    f"{found.told} has other objects",
                    code="backup.taken",
                    hint="Name a prefix below which nothing lies.",
                )
            bucket.write(MARK, FORM.encode())
        return cls.open(bucket)

    @contextmanager
    def alone(self) -> Iterator[None]:
        """Two that write at once do not harm each other here: what one of them needs has another name or the same
        bytes."""
        yield

    def names(self) -> list[str]:
        self._objects = self._bucket.names()  # another backup may have been made since
        places = (name.split("/") for name in self._objects if name.startswith("moments/"))
        return oldest_first({p[1] for p in places if len(p) == 3 and p[2] == MOMENT and NAME.match(p[1])})

    def file(self, moment: str, name: str) -> bytes:
        return b"".join(self._bucket.pieces(f"moments/{moment}/{name}"))

    def records(self, moment: str) -> Iterator[bytes]:
        return self._bucket.pieces(f"moments/{moment}/{RECORDS}")

    def pieces(self, segment: SavedSegment) -> Iterator[bytes]:
        return self._bucket.pieces(_object(segment))

    def part(self, segment: SavedSegment, offset: int, length: int) -> bytes:
        return self._bucket.read(_object(segment), offset, length)

    @contextmanager
    def at_hand(self, segment: SavedSegment) -> Iterator[Readable]:
        with tempfile.TemporaryDirectory(prefix="es-backup-") as folder:
            self._bucket.fetch(_object(segment), Path(folder, segment.name))
            yield FolderPlace(Path(folder))

    def has(self, segment: SavedSegment) -> bool:
        return self._objects.get(_object(segment)) == segment.size

    def save(self, place: Place, name: str, size: int, before: SavedSegment | None) -> SavedSegment:
        with tempfile.TemporaryDirectory(prefix="es-backup-") as folder:
            aside, digest, at = Path(folder, name), blake3(), 0
            with aside.open("wb") as file:
                while at < size:
                    piece = place.read(name, at, min(PIECE_BYTES, size - at))
                    if not piece:
                        raise StorageError(f"{name} is shorter than it was", code="backup.storage", hint="Try again.")
                    digest.update(piece)
                    at += file.write(piece)
            saved = SavedSegment(name, size, digest.hexdigest())
            self._bucket.send(_object(saved), aside)
        if self._bucket.digest(_object(saved)) != (size, saved.blake3):
            raise StorageError(
                f"{_object(saved)} in {self.told} does not read back as it was written",
                code="backup.storage",
                hint="Try again, or name another bucket.",
            )
        self._objects[_object(saved)] = size
        return saved

    @contextmanager
    def preparing(self, name: str) -> Iterator[Path]:
        hidden = Path(tempfile.mkdtemp(prefix=f"es-backup-{name}-"))
        try:
            yield hidden
        finally:
            shutil.rmtree(hidden, ignore_errors=True)

    def publish(self, name: str, prepared: Path) -> None:
        # The file that makes it a moment comes last.
        files = sorted((one for one in prepared.rglob("*") if one.is_file()), key=lambda one: one.name == MOMENT)
        for file in files:
            placed = f"moments/{name}/{file.relative_to(prepared).as_posix()}"
            self._bucket.send(placed, file)
            self._objects[placed] = file.stat().st_size

    def settle(self) -> None:
        """An object is durable when its sending ends."""

    def remove(self, moments: list[str]) -> None:
        for name in moments:
            below = [one for one in self._objects if one.startswith(f"moments/{name}/")]
            below.sort(key=lambda one: not one.endswith(f"/{MOMENT}"))  # without it the rest is not a moment
            for one in below:
                self._bucket.remove([one])
                del self._objects[one]

    def sweep(self, needed: list[SavedSegment]) -> None:
        names, since = {_object(segment) for segment in needed}, datetime.now(UTC) - _UNNEEDED_FOR
        old = self._bucket.written_before(since)
        gone = [one for one in self._objects if one.startswith("segments/") and one not in names and one in old]
        self._bucket.remove(gone)
        for one in gone:
            del self._objects[one]


class BackupMirror(Readable):
    """The segments of a bucket of backups by their own names, each as long as it was saved at most: to heal from."""

    def __init__(self, backups: BackupBucket) -> None:
        self._longest: dict[str, SavedSegment] = {}
        for moment in backups.all():
            for segment in moment.segments:
                known = self._longest.get(segment.name)
                if known is None or known.size < segment.size:
                    self._longest[segment.name] = segment
        self._bucket = backups._bucket

    def names(self) -> list[str]:
        return sorted(self._longest)

    def size(self, name: str) -> int:
        if name not in self._longest:
            raise FileNotFoundError(name)
        return self._longest[name].size

    def read(self, name: str, offset: int, length: int) -> bytes:
        if name not in self._longest:
            raise FileNotFoundError(name)
        return self._bucket.read(_object(self._longest[name]), offset, length)


def _object(segment: SavedSegment) -> str:
    return f"segments/{segment.name}-{segment.size}"
