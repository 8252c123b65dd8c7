"""Read a backup back: every byte against its hash, and what the records name against what is there."""

from __future__ import annotations

import contextlib
import hashlib
import os
import sqlite3
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import IO, cast

import msgspec
import zstandard

from everyshelf.core.content.records import HEAD_BYTES
from everyshelf.core.content.scanning import iter_records
from everyshelf.core.durable import to_disk
from everyshelf.core.errors import BrokenError, StorageError
from everyshelf.service.backups.layout import Backups, Moment
from everyshelf.service.backups.making import Progress, reads_back

_MOST_TOLD = 200


class Checked(msgspec.Struct):
    """What was read of a moment, and what is wrong with it, a line each."""

    moment: str
    segments: int
    bytes: int
    contents: int
    problems: list[str]


def check_moment(backups: Backups, moment: Moment, progress: Progress) -> Checked:
    """Read every byte of a moment and see that a service restored from it would find all it needs."""
    problems: list[str] = []
    there: set[bytes] = set()
    done = 0
    for segment in moment.segments:
        progress(done, moment.size, f"segment {segment.name[:12]}")
        done += segment.size
        try:
            if not reads_back(backups, segment):
                problems.append(f"segment {segment.name}: its bytes are not those that were copied")
            with backups.at_hand(segment) as place:
                for offset, record in iter_records(place, segment.name):
                    if offset + HEAD_BYTES + len(record.payload) > segment.size:
                        break
                    there.add(record.id)
        except OSError as error:
            problems.append(f"segment {segment.name}: {error.strerror or 'it is not there'}")
        except StorageError as error:
            problems.append(error.message)
    contents = 0
    with tempfile.TemporaryDirectory(prefix="es-backup-") as aside:
        records = Path(aside) / "records.sqlite"
        try:
            unpack_records(backups, moment, records)
        except (BrokenError, StorageError) as error:
            problems.append(error.message)
        except OSError as error:
            raise StorageError(
                f"{aside} could not be written: {error.strerror or error}",
                code="backup.storage",
                hint="Checking unpacks the records there. Look for free space, or name another folder in TMPDIR.",
            ) from error
        else:
            for what, identity in _named(records):
                contents += 1
                if len(problems) < _MOST_TOLD and bytes.fromhex(identity) not in there:
                    problems.append(f"{what} {identity[:12]} is not in the backup")
    progress(moment.size, moment.size, "")
    return Checked(moment.name, len(moment.segments), moment.size, contents, problems)


def unpack_records(backups: Backups, moment: Moment, target: Path) -> None:
    """Write the records of a moment to ``target``; raises ``BrokenError`` if they are not those that were saved, and
    ``OSError`` where ``target`` cannot be written."""
    digest = hashlib.sha256()
    try:
        with open(os.open(target, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "wb") as file:
            written, pieces = 0, _Pieces(backups.records(moment.name))
            for piece in zstandard.ZstdDecompressor().read_to_iter(cast(IO[bytes], pieces)):
                written += len(piece)
                if written > moment.records_bytes:
                    break  # more than it says: the hash is not that of what was saved
                digest.update(piece)
                file.write(piece)
            to_disk(file)
    except (FileNotFoundError, zstandard.ZstdError) as error:
        raise BrokenError(f"the records of {moment.name} cannot be read: {error}", code="backup.damaged") from error
    if digest.hexdigest() != moment.records:
        raise BrokenError(f"the records of {moment.name} are not those that were saved", code="backup.damaged")


class _Pieces:
    """Pieces as a file that is read from the front."""

    def __init__(self, pieces: Iterator[bytes]) -> None:
        self._pieces, self._held = pieces, b""

    def read(self, size: int) -> bytes:
        """Up to ``size`` bytes."""
        if not self._held:
            self._held = next(self._pieces, b"")
        found, self._held = self._held[:size], self._held[size:]
        return found


def _named(records: Path) -> Iterator[tuple[str, str]]:
    """Every content and every commit's state that the records name."""
    with contextlib.closing(sqlite3.connect(f"{records.absolute().as_uri()}?mode=ro", uri=True)) as found:
        yield from (
            ("the content", row[0]) for row in found.execute("SELECT DISTINCT content FROM shelves_shelfcontent")
        )
        yield from (("the state", row[0]) for row in found.execute("SELECT DISTINCT root FROM shelves_commit"))
