"""What lies where backups are kept: in a folder (``folder``) or below a prefix of a bucket (``in_bucket``).

::

    everyshelf-backup      one line that says which form this is
    segments/NAME.seg      bytes of the content store, shared by all moments; in a folder they only grow, in a bucket
                           each length is an object of its own: NAME.seg-LENGTH
    moments/TIME/          one moment, in UTC: 20261129T051432Z
        moment.json        which beginning of which segment belongs to it, with BLAKE3 of those bytes; written last
        records.sqlite.zst the records at that moment
        moment.signature   HMAC of moment.json and of the files, with the key of the installation
        files/             settings and marks of the data folder

The records are taken first and the segments after them. What records name was durable before them, segments are only
added to, so the segments hold all that the records of that moment need, however much is committed meanwhile. The keys
are not among it: whoever finds a backup cannot open the secrets in it.
"""

from __future__ import annotations

import contextlib
import hashlib
import hmac
import re
from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator
from contextlib import AbstractContextManager
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import msgspec

from everyshelf.core.content.place import Place, Readable
from everyshelf.core.errors import BrokenError, MissingError
from everyshelf.decoding import from_json

FORM = "Every Shelf backup, form 1\n"
MARK = "everyshelf-backup"
NAME = re.compile(r"\d{8}T\d{6}Z\Z")
PIECE_BYTES = 4 * 1024 * 1024
TIME = "%Y%m%dT%H%M%SZ"
RECORDS, MOMENT, SIGNATURE = "records.sqlite.zst", "moment.json", "moment.signature"
_HASH = re.compile(r"[0-9a-f]{64}\Z")
_SEGMENT = re.compile(r"(?:[a-z0-9]+(?:-[a-z0-9]+)*~)?[0-9a-f]{32}\.seg\Z")
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


class Backups(ABC):
    """Where backups are kept. ``told``: the place for people, as it is given to commands."""

    told: str

    @abstractmethod
    def names(self) -> list[str]:
        """The moments, oldest first."""

    @abstractmethod
    def file(self, moment: str, name: str) -> bytes:
        """A small file of a moment; raises ``FileNotFoundError``."""

    @abstractmethod
    def records(self, moment: str) -> Iterator[bytes]:
        """The packed records of a moment; raises ``FileNotFoundError``."""

    @abstractmethod
    def pieces(self, segment: SavedSegment) -> Iterator[bytes]:
        """The bytes that were saved of a segment; fewer where some are gone. Raises ``OSError``."""

    @abstractmethod
    def part(self, segment: SavedSegment, offset: int, length: int) -> bytes:
        """Up to ``length`` bytes of what was saved of a segment, from ``offset``; raises ``OSError``."""

    @abstractmethod
    def at_hand(self, segment: SavedSegment) -> AbstractContextManager[Readable]:
        """What was saved of a segment as something on this machine to read from, under the segment's name."""

    @abstractmethod
    def alone(self) -> AbstractContextManager[None]:
        """Keep others from writing meanwhile; raises ``ConflictError`` if one does."""

    @abstractmethod
    def has(self, segment: SavedSegment) -> bool:
        """Whether all bytes of a segment that was saved are there, as far as lengths tell."""

    @abstractmethod
    def save(self, place: Place, name: str, size: int, before: SavedSegment | None) -> SavedSegment:
        """Save the first ``size`` bytes of a segment and read them back. ``before``: what of it is there already.

        Raises ``StorageError`` where they do not read back."""

    @abstractmethod
    def preparing(self, name: str) -> AbstractContextManager[Path]:
        """A folder of this machine to prepare a moment in; gone afterwards."""

    @abstractmethod
    def publish(self, name: str, prepared: Path) -> None:
        """Make what was prepared a moment, in one step, durably."""

    @abstractmethod
    def settle(self) -> None:
        """Return once the segments that were saved are there under their names."""

    @abstractmethod
    def remove(self, moments: list[str]) -> None:
        """Remove moments."""

    @abstractmethod
    def sweep(self, needed: list[SavedSegment]) -> None:
        """Remove the segments that are not among ``needed``."""

    def read(self, name: str) -> Moment:
        """A moment; raises ``MissingError`` or ``BrokenError``. Nothing in it is trusted: names are those that a
        service gives, so that anyone who writes a backup decides about no path."""
        try:
            found = from_json(self.file(name, MOMENT), Moment)
            _check(found, name)
            return found
        except FileNotFoundError as error:
            raise MissingError(
                f"{self.told} has no backup of {name}",
                code="backup.missing",
                hint=f"List them: everyshelf backup list {self.told}",
            ) from error
        except (msgspec.DecodeError, ValueError) as error:
            raise BrokenError(
                f"{name} in {self.told} is damaged: {error}",
                code="backup.damaged",
                hint="Take another moment.",
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
                f"{self.told} has no backup yet", code="backup.missing", hint="Make one: everyshelf backup make"
            )
        return self.read(name or names[-1])


def _check(moment: Moment, name: str) -> None:
    """Return if a moment names only what a service writes; raises ``ValueError``."""
    if moment.name != name or not NAME.match(name):
        raise ValueError("it has the name of another one")
    hashes = [moment.records, *(segment.blake3 for segment in moment.segments)]
    if any(not _HASH.match(one) for one in hashes):
        raise ValueError("it names bytes by something other than a hash")
    names = [segment.name for segment in moment.segments]
    if len(set(names)) != len(names) or any(not _SEGMENT.match(one) for one in names):
        raise ValueError("it names a segment as no service does")
    if moment.records_bytes < 0 or any(segment.size < 0 for segment in moment.segments):
        raise ValueError("it names a length below nothing")


def signature_of(moment: bytes, files: Iterable[tuple[str, bytes]], key: bytes) -> str:
    """HMAC-SHA256 (RFC 2104) of what a moment says and of its small files, with the key of the installation."""
    signed = hmac.new(hashlib.sha256(b"backup" + key).digest(), moment, hashlib.sha256)
    for name, data in sorted(files):
        signed.update(f"\0{name}\0{hashlib.sha256(data).hexdigest()}".encode())
    return signed.hexdigest()


def is_signed(backups: Backups, moment: Moment, key: bytes | None) -> bool:
    """Whether a moment was made by the installation that has the key, and is as it was made."""
    if key is None:
        return False
    files = []
    for name in FILES:
        with contextlib.suppress(FileNotFoundError, MissingError):
            files.append((name, backups.file(moment.name, f"files/{name}")))
    try:
        said = backups.file(moment.name, SIGNATURE)
    except (FileNotFoundError, MissingError):
        return False
    wanted = signature_of(backups.file(moment.name, MOMENT), files, key)
    return hmac.compare_digest(said.strip(), wanted.encode())


def free_name(known: list[str], now: datetime) -> str:
    """A name for a moment that nothing has yet: seconds are counted up where two are made in one."""
    stamp = int(now.timestamp())
    while (name := datetime.fromtimestamp(stamp, UTC).strftime(TIME)) in known:
        stamp += 1
    return name


def oldest_first(names: Iterable[str]) -> list[str]:
    """Moments by their age. One of the future comes before the others: the clock was ahead when it was made, and what
    was made since it was put right is newer, and must not be dropped as the oldest."""
    ahead = (datetime.now(UTC) + timedelta(hours=1)).strftime(TIME)
    return sorted(names, key=lambda name: (name <= ahead, name))


def not_backups(told: str) -> MissingError:
    """The error for a place where no backups are kept."""
    return MissingError(
        f"{told} is not a place of backups",
        code="backup.missing",
        hint="Name the folder or the bucket that everyshelf backup make wrote to.",
    )


def other_form(told: str) -> BrokenError:
    """The error for backups of another version of this program."""
    return BrokenError(
        f"{told} was written in another form",
        code="backup.form",
        hint="Read it with the version that wrote it.",
    )


def told_of(moment: Moment) -> dict[str, Any]:
    """A moment as interfaces tell it."""
    return {
        "name": moment.name,
        "made": moment.made,
        "size": moment.size,
        "added": moment.added,
        "damage": moment.damage,
    }
