"""Write a data folder from a backup."""

from __future__ import annotations

import contextlib
import os
import shutil
import tempfile
from collections.abc import Callable, Iterable
from pathlib import Path

from blake3 import blake3

from everyshelf.core.durable import sync_folder, to_disk, write_durably
from everyshelf.core.errors import BrokenError, InvalidError, MissingError, StorageError
from everyshelf.service.backups.checking import unpack_records
from everyshelf.service.backups.layout import FILES, Backups, Moment, SavedSegment
from everyshelf.service.backups.making import Progress

SETTINGS = "everyshelf.toml"  # which folders may be written, which hosts called: not for a backup to say
Write = Callable[[Backups, Moment, Path, Progress], None]


def write_all(backups: Backups, moment: Moment, target: Path, progress: Progress) -> None:
    """Write all of a moment into the folder ``target``, durably."""
    segments = target / "segments"
    segments.mkdir(mode=0o700)
    done = 0
    for segment in moment.segments:
        progress(done, moment.size, f"segment {segment.name[:12]}")
        _copy(backups, segments / segment.name, segment)
        done += segment.size
    sync_folder(segments)
    progress(done, moment.size, "records")
    unpack_records(backups, moment, target / "records.sqlite")
    write_files(backups, moment, target, FILES)
    progress(moment.size, moment.size, "")


def write_files(backups: Backups, moment: Moment, target: Path, names: Iterable[str]) -> None:
    """Write those of these files of a moment that it has; settings beside, for someone to look at."""
    for name in names:
        with contextlib.suppress(FileNotFoundError):
            aside = f"{name}.from-backup" if name == SETTINGS else name
            write_durably(target / aside, backups.file(moment.name, f"files/{name}"))


def restore_moment(
    backups: Backups,
    moment: Moment,
    data: Path,
    progress: Progress,
    *,
    keys: tuple[Path, Path] | None = None,
    write: Write = write_all,
) -> None:
    """Write the data folder ``data``, which must be missing or empty, as it was at a moment; all of it or nothing.

    ``keys``: the folder that the keys were saved in, and the path of the key file of secrets. ``write``: what writes
    the folder, where it is not all of the moment. Raises ``InvalidError``, ``BrokenError`` for bytes that are not those
    that were copied, ``StorageError``.
    """
    if data.exists() and any(data.iterdir()):
        raise InvalidError(
            f"{data} is not empty",
            code="backup.taken",
            hint="Name a new folder, look at what is restored, then serve it with everyshelf serve --data FOLDER.",
        )
    if keys and not (keys[0] / "secrets.key").is_file():
        raise MissingError(
            f"{keys[0]} holds no keys", code="backup.missing", hint="Name the folder that --keys wrote to."
        )
    if keys and keys[1].exists() and keys[1].read_bytes() != (keys[0] / "secrets.key").read_bytes():
        raise InvalidError(
            f"another key lies at {keys[1]}",
            code="backup.taken",
            hint="Name another folder, or move that key away: what it sealed cannot be opened without it.",
        )
    data.parent.mkdir(parents=True, exist_ok=True)
    hidden = Path(tempfile.mkdtemp(prefix=f".{data.name}.", dir=data.parent))
    try:
        write(backups, moment, hidden, progress)
        if keys:
            write_durably(keys[1], (keys[0] / "secrets.key").read_bytes())
            if (keys[0] / "secret-key").exists():
                write_durably(hidden / "secret-key", (keys[0] / "secret-key").read_bytes())
        sync_folder(hidden)
        if data.exists():
            data.rmdir()
        os.rename(hidden, data)
        sync_folder(data.parent)
    except OSError as error:
        raise StorageError(
            f"{data} could not be written: {error.strerror or error}",
            code="backup.storage",
            hint="Look for free space there and for your rights. The backup is as it was.",
        ) from error
    finally:
        shutil.rmtree(hidden, ignore_errors=True)


def _copy(backups: Backups, target: Path, segment: SavedSegment) -> None:
    digest, left = blake3(), segment.size
    with open(os.open(target, os.O_WRONLY | os.O_CREAT, 0o600), "wb") as file:
        try:
            for piece in backups.pieces(segment):
                digest.update(piece)
                file.write(piece)
                left -= len(piece)
        except FileNotFoundError as error:
            raise _damaged(segment) from error
        to_disk(file)
    if left or digest.hexdigest() != segment.blake3:
        raise _damaged(segment)


def _damaged(segment: SavedSegment) -> BrokenError:
    return BrokenError(
        f"segment {segment.name} of the backup is damaged",
        code="backup.damaged",
        hint="See what else is: everyshelf backup check. Restore another moment, or from another backup.",
    )
