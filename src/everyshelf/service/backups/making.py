"""Make a backup of a data folder while its service runs."""

from __future__ import annotations

import contextlib
import hashlib
import os
import shutil
import sqlite3
import tempfile
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

import msgspec
import zstandard
from blake3 import blake3

from everyshelf.core.content.place import Place
from everyshelf.core.content.scanning import whole_records
from everyshelf.core.errors import InvalidError, MissingError, StorageError
from everyshelf.service.backups.layout import (
    FILES,
    MOMENT,
    RECORDS,
    BackupFolder,
    Moment,
    SavedSegment,
    free_name,
    sync_folder,
    write_durably,
)
from everyshelf.storage.home import open_place

Progress = Callable[[int, int, str], None]
PIECE_BYTES = 4 * 1024 * 1024


def make_backup(
    data: Path, target: Path, progress: Progress, *, keys: tuple[Path, Path] | None = None, reread: bool = False
) -> Moment:
    """Add a moment to the folder ``target``: the records as they are now, and every byte they need.

    Only what the folder lacks is copied, and read back from there before the moment counts. ``keys``: the key file of
    secrets and a folder, apart from ``target``, to copy the keys to. ``reread``: read what earlier backups copied, too,
    and copy again what is damaged there. Raises ``InvalidError``, ``StorageError``.
    """
    _check(data, target, keys)
    try:
        folder = BackupFolder.make(target)
        # Segments are not removed while they are copied; the records are copied within that time, too.
        place = open_place(data)
        with folder.alone(), place.alone(wait=True):
            return _made(data, place, folder, progress, keys, reread)
    except OSError as error:
        raise StorageError(
            f"the backup could not be written to {target}: {error.strerror or error}",
            code="backup.storage",
            hint="Look for free space there and for the rights of the service. Nothing that was there is harmed.",
        ) from error


def _check(data: Path, target: Path, keys: tuple[Path, Path] | None) -> None:
    if not (data / "records.sqlite").is_file():
        raise MissingError(
            f"{data} is not the data folder of a service", code="backup.data", hint="Name it with --data FOLDER."
        )
    inside = [one for one in (target, *(keys[1:] if keys else ())) if one.resolve().is_relative_to(data.resolve())]
    if inside:
        raise InvalidError(
            f"{inside[0]} lies in the data folder itself",
            code="backup.place",
            hint="Name a folder elsewhere, best on another disk.",
        )
    if keys and keys[1].resolve().is_relative_to(target.resolve()):
        raise InvalidError(
            "the keys would lie with the backup",
            code="backup.place",
            hint="Name a folder elsewhere: whoever finds the backup should not find the keys.",
        )


def _made(
    data: Path,
    place: Place,
    folder: BackupFolder,
    progress: Progress,
    keys: tuple[Path, Path] | None,
    reread: bool,
) -> Moment:
    made = datetime.now(UTC)
    name = free_name(folder, made)
    hidden = Path(tempfile.mkdtemp(prefix=f".{name}.", dir=folder.moments))
    try:
        progress(0, 1, "records")
        digest, size = _save_records(data / "records.sqlite", hidden)
        segments, added, damage = _save_segments(place, folder, progress, reread)
        (hidden / "files").mkdir()
        for one in FILES:
            with contextlib.suppress(FileNotFoundError):
                write_durably(hidden / "files" / one, (data / one).read_bytes())
        added += (hidden / RECORDS).stat().st_size
        moment = Moment(name, made, digest, size, segments, added, damage)
        write_durably(hidden / MOMENT, msgspec.json.format(msgspec.json.encode(moment)))
        sync_folder(hidden)
        os.rename(hidden, folder.moments / name)
        sync_folder(folder.moments)
    except BaseException:
        shutil.rmtree(hidden, ignore_errors=True)
        raise
    if keys:
        _save_keys(data, *keys)
    return moment


def _save_records(records: Path, target: Path) -> tuple[str, int]:
    """The records as they were at one instant, packed; gives the SHA-256 and length of what was packed. Writers are not
    held up: the copy is made by one read of the write-ahead log's snapshot (https://sqlite.org/backup.html)."""
    copy = target / "records.sqlite"
    with (
        contextlib.closing(sqlite3.connect(f"{records.absolute().as_uri()}?mode=ro", uri=True, timeout=60)) as source,
        contextlib.closing(sqlite3.connect(copy)) as into,
    ):
        source.backup(into, pages=-1)
        into.execute("PRAGMA journal_mode=DELETE")
        wrong = into.execute("PRAGMA integrity_check(1)").fetchone()[0]
    if wrong != "ok":
        raise StorageError(
            f"the copy of the records is damaged: {wrong}",
            code="backup.records",
            hint="Run everyshelf verify: if the records themselves are damaged, restore an earlier backup.",
        )
    digest, size = hashlib.sha256(), 0
    packer = zstandard.ZstdCompressor(level=3)
    packed = os.open(target / RECORDS, os.O_WRONLY | os.O_CREAT, 0o600)
    with copy.open("rb") as source_file, os.fdopen(packed, "wb") as file:
        with packer.stream_writer(file, closefd=False) as writer:
            for piece in iter(lambda: source_file.read(PIECE_BYTES), b""):
                digest.update(piece)
                size += len(piece)
                writer.write(piece)
        file.flush()
        os.fsync(file.fileno())
    copy.unlink()
    return digest.hexdigest(), size


def _save_segments(
    place: Place, folder: BackupFolder, progress: Progress, reread: bool
) -> tuple[list[SavedSegment], int, list[str]]:
    """Bring the folder's segments up to those of the store; gives them, how many bytes were added, and what of the
    store is damaged."""
    known = {one.name: one for moment in folder.all() for one in moment.segments}
    damage: list[str] = []
    wanted: dict[str, int] = {}
    for name in [one for one in place.names() if one.endswith(".seg")]:
        with contextlib.suppress(FileNotFoundError):  # an empty one that was removed meanwhile
            before = known.get(name)
            if before is not None and before.size == place.size(name):
                wanted[name] = before.size
                continue
            wanted[name], harmed = whole_records(place, name)
            damage += [str(one) for one in harmed]
    copied = {name for name, size in wanted.items() if not _has(folder, known.get(name), size)}
    total = sum(size for name, size in wanted.items() if reread or name in copied)
    saved, done = [], 0
    for name, size in wanted.items():
        before, target = known.get(name), folder.segments / name
        if reread or name in copied:
            progress(done, total, f"segment {name[:12]}")
            done += size
        if name in copied or (reread and before is not None and hash_of(target, size) != before.blake3):
            saved.append(_saved(place, name, target, size, before if name in copied else None))
        elif before is not None:
            saved.append(before)
    sync_folder(folder.segments)
    progress(total, total, "")
    return saved, sum(one.size - (known[one.name].size if one.name in known else 0) for one in saved), damage


def _has(folder: BackupFolder, known: SavedSegment | None, size: int) -> bool:
    return known is not None and known.size == size and _length(folder.segments / known.name) >= size


def _length(path: Path) -> int:
    try:
        return path.stat().st_size
    except FileNotFoundError:
        return 0


def _saved(place: Place, name: str, target: Path, size: int, before: SavedSegment | None) -> SavedSegment:
    """Add to ``target`` what it lacks of the first ``size`` bytes of a segment, and read all of them back."""
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
        file.flush()
        os.fsync(file.fileno())
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


def _save_keys(data: Path, key_file: Path, target: Path) -> None:
    target.mkdir(parents=True, exist_ok=True, mode=0o700)
    for source, name in ((key_file, "secrets.key"), (data / "secret-key", "secret-key")):
        if source.exists():
            write_durably(target / name, source.read_bytes())
    sync_folder(target)
