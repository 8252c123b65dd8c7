"""What lies in a backup folder.

::

    everyshelf-backup      one line that says which form this is
    segments/NAME.seg      bytes of the content store, shared by all moments; they only grow
    moments/TIME/          one moment, in UTC: 20261129T051432Z
        moment.json        which beginning of which segment belongs to it, with BLAKE3 of those bytes; written last
        records.sqlite.zst the records at that moment
        files/             settings and marks of the data folder

The records are taken first and the segments after them. What records name was durable before them, segments are only
added to, so the segments hold all that the records of that moment need, however much is committed meanwhile. The keys
are not among it: whoever finds a backup cannot open the secrets in it.
"""

from __future__ import annotations

import fcntl
import os
import re
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import msgspec

from everyshelf.core.errors import BrokenError, ConflictError, InvalidError, MissingError

_FORM = "Every Shelf backup, form 1\n"
_MARK, _LOCK = "everyshelf-backup", ".lock"
_NAME = re.compile(r"\d{8}T\d{6}Z\Z")
TIME = "%Y%m%dT%H%M%SZ"
RECORDS, MOMENT = "records.sqlite.zst", "moment.json"
# What of the data folder belongs to a moment beside records and segments; the keys are left out on purpose.
FILES = ("format", "everyshelf.toml", "sealed-mark")


class SavedSegment(msgspec.Struct):
    """The first ``size`` bytes of a segment and their BLAKE3, in hex."""

    name: str
    size: int
    blake3: str


class Moment(msgspec.Struct):
    """One backup: when it was made, and what belongs to it. ``records``: SHA-256 of the unpacked records. ``added``:
    bytes that this moment added to the folder. ``damage``: what was damaged already when it was copied, a line each."""

    name: str
    made: datetime
    records: str
    records_bytes: int
    segments: list[SavedSegment]
    added: int = 0
    damage: list[str] = []
    form: int = 1

    @property
    def size(self) -> int:
        """Bytes that a restore writes."""
        return self.records_bytes + sum(segment.size for segment in self.segments)


class BackupFolder:
    """A folder of backups."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.segments = path / "segments"
        self.moments = path / "moments"

    @classmethod
    def open(cls, path: Path) -> BackupFolder:
        """One that is there; raises ``MissingError`` or ``BrokenError``."""
        mark = path / _MARK
        if not mark.is_file():
            raise MissingError(
                f"{path} is not a folder of backups",
                code="backup.missing",
                hint="Name the folder that everyshelf backup make wrote to.",
            )
        if mark.read_text(errors="replace") != _FORM:
            raise BrokenError(
                f"{path} was written in another form",
                code="backup.form",
                hint="Read it with the version that wrote it.",
            )
        return cls(path)

    @classmethod
    def make(cls, path: Path) -> BackupFolder:
        """One that is there, or a new one in a folder that is empty or missing; raises ``InvalidError``."""
        mark = path / _MARK
        if not mark.exists():
            if path.exists() and any(path.iterdir()):
                raise InvalidError(
                    f"{path} holds other files",
                    code="backup.taken",
                    hint="Name an empty folder, or one that does not exist yet.",
                )
            path.mkdir(parents=True, exist_ok=True, mode=0o700)
            write_durably(mark, _FORM.encode())
        found = cls.open(path)
        found.segments.mkdir(exist_ok=True, mode=0o700)
        found.moments.mkdir(exist_ok=True, mode=0o700)
        return found

    @contextmanager
    def alone(self) -> Iterator[None]:
        """Keep others from writing meanwhile; raises ``ConflictError`` if one does."""
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
        """The moments, oldest first."""
        if not self.moments.is_dir():
            return []
        return sorted(one.name for one in self.moments.iterdir() if _NAME.match(one.name))

    def read(self, name: str) -> Moment:
        """A moment; raises ``MissingError`` or ``BrokenError``."""
        path = self.moments / name / MOMENT
        try:
            return msgspec.json.decode(path.read_bytes(), type=Moment)
        except FileNotFoundError as error:
            raise MissingError(
                f"{self.path} holds no backup of {name}",
                code="backup.missing",
                hint=f"List them: everyshelf backup list {self.path}",
            ) from error
        except msgspec.DecodeError as error:
            raise BrokenError(
                f"{path} is damaged: {error}", code="backup.damaged", hint="Take another moment of this folder."
            ) from error

    def all(self) -> list[Moment]:
        """Every moment that can be read, oldest first."""
        found = []
        for name in self.names():
            try:
                found.append(self.read(name))
            except BrokenError:
                continue
        return found

    def unreadable(self) -> list[str]:
        """The moments that cannot be read, oldest first."""
        readable = {moment.name for moment in self.all()}
        return [name for name in self.names() if name not in readable]

    def newest(self, name: str = "") -> Moment:
        """The moment of that name, or the newest."""
        names = self.names()
        if not name and not names:
            raise MissingError(
                f"{self.path} holds no backup yet", code="backup.missing", hint="Make one: everyshelf backup make"
            )
        return self.read(name or names[-1])


def free_name(folder: BackupFolder, now: datetime) -> str:
    """A name for a moment that nothing has yet: seconds are counted up where two are made in one."""
    stamp = int(now.timestamp())
    while (folder.moments / (name := datetime.fromtimestamp(stamp, UTC).strftime(TIME))).exists():
        stamp += 1
    return name


def write_durably(path: Path, data: bytes) -> None:
    """Write a file of the owner's, and return once it is on the disk."""
    with open(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "wb") as file:
        file.write(data)
        file.flush()
        os.fsync(file.fileno())


def sync_folder(path: Path) -> None:
    """Return once the names in a folder are on the disk."""
    descriptor = os.open(path, os.O_RDONLY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def told_of(moment: Moment) -> dict[str, Any]:
    """A moment as interfaces tell it."""
    return {
        "name": moment.name,
        "made": moment.made,
        "size": moment.size,
        "added": moment.added,
        "damage": moment.damage,
    }
