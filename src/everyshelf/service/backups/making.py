"""Make a backup of a data folder while its service runs."""

from __future__ import annotations

import contextlib
import hashlib
import os
import sqlite3
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

import msgspec
import zstandard
from blake3 import blake3

from everyshelf.core.content.place import Place
from everyshelf.core.content.scanning import whole_records
from everyshelf.core.durable import sync_folder, to_disk, write_durably
from everyshelf.core.errors import InvalidError, MissingError, StorageError
from everyshelf.service.backups.layout import (
    FILES,
    MOMENT,
    PIECE_BYTES,
    RECORDS,
    SIGNATURE,
    Backups,
    Moment,
    SavedSegment,
    free_name,
    signature_of,
)
from everyshelf.service.backups.opening import make_backups
from everyshelf.storage.addresses import is_bucket
from everyshelf.storage.home import open_place

Progress = Callable[[int, int, str], None]


def make_backup(
    data: Path,
    target: Path | str,
    progress: Progress,
    *,
    endpoint: str = "",
    keys: tuple[Path, Path] | None = None,
    reread: bool = False,
    sign_with: Path | None = None,
) -> Moment:
    """Add a moment to the folder or bucket ``target``: the records as they are now, and every byte they need.

    Only what is lacking there is copied, and read back from there before the moment counts. ``endpoint``: address of
    the service that has the bucket. ``keys``: the key file of secrets and a folder, apart from ``target``, to copy the
    keys to. ``sign_with``: the file of the key that tells later that this installation made it.
    ``reread``: read what earlier backups copied, too, and copy again what is damaged there. Raises
    ``InvalidError``, ``StorageError``, ``OutOfReachError``.
    """
    _check(data, target, keys)
    try:
        backups = make_backups(target, endpoint)
        # Segments are not removed while they are copied; the records are copied within that time, too.
        place = open_place(data)
        with backups.alone(), place.alone(wait=True):
            return _made(data, place, backups, progress, keys, reread, sign_with)
    except OSError as error:
        raise StorageError(
            f"the backup could not be written to {target}: {error.strerror or error}",
            code="backup.storage",
            hint="Look for free space there and for the rights of the service. Nothing that was there is harmed.",
        ) from error


def _check(data: Path, target: Path | str, keys: tuple[Path, Path] | None) -> None:
    if not (data / "records.sqlite").is_file():
        raise MissingError(
            f"{data} is not the data folder of a service", code="backup.data", hint="Name it with --data FOLDER."
        )
    folder = None if is_bucket(target) else Path(target)
    named = [one for one in (folder, keys[1] if keys else None) if one is not None]
    inside = [one for one in named if one.resolve().is_relative_to(data.resolve())]
    if inside:
        raise InvalidError(
            f"{inside[0]} lies in the data folder itself",
            code="backup.place",
            hint="Name a folder elsewhere, best on another disk.",
        )
    if keys and folder is not None and keys[1].resolve().is_relative_to(folder.resolve()):
        raise InvalidError(
            "the keys would lie with the backup",
            code="backup.place",
            hint="Name a folder elsewhere: whoever finds the backup should not find the keys.",
        )


def _made(
    data: Path,
    place: Place,
    backups: Backups,
    progress: Progress,
    keys: tuple[Path, Path] | None,
    reread: bool,
    sign_with: Path | None,
) -> Moment:
    made = datetime.now(UTC)
    name = free_name(backups.names(), made)
    with backups.preparing(name) as hidden:
        progress(0, 1, "records")
        digest, size = _save_records(data / "records.sqlite", hidden)
        segments, added, damage = _save_segments(place, backups, progress, reread)
        (hidden / "files").mkdir()
        files: list[tuple[str, bytes]] = []
        for one in FILES:
            with contextlib.suppress(FileNotFoundError):
                files.append((one, (data / one).read_bytes()))
                write_durably(hidden / "files" / one, files[-1][1])
        added += (hidden / RECORDS).stat().st_size
        moment = Moment(name, made, digest, size, segments, added, damage)
        said = msgspec.json.format(msgspec.json.encode(moment))
        if sign_with is not None and sign_with.exists():
            signature = signature_of(said, files, sign_with.read_bytes().strip())
            write_durably(hidden / SIGNATURE, f"{signature}\n".encode())
        write_durably(hidden / MOMENT, said)
        backups.publish(name, hidden)
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
        to_disk(file)
    copy.unlink()
    return digest.hexdigest(), size


def _save_segments(
    place: Place, backups: Backups, progress: Progress, reread: bool
) -> tuple[list[SavedSegment], int, list[str]]:
    """Bring the segments that are saved up to those of the store; gives them, how many bytes were added, and what of
    the store is damaged."""
    known = {one.name: one for moment in backups.all() for one in moment.segments}
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
    lacking = {name for name, size in wanted.items() if not _has(backups, known.get(name), size)}
    total = sum(size for name, size in wanted.items() if reread or name in lacking)
    saved, done = [], 0
    for name, size in wanted.items():
        before = known.get(name)
        if reread or name in lacking:
            progress(done, total, f"segment {name[:12]}")
            done += size
        if name in lacking or (reread and before is not None and not reads_back(backups, before)):
            saved.append(backups.save(place, name, size, before if name in lacking else None))
        elif before is not None:
            saved.append(before)
    backups.settle()
    progress(total, total, "")
    return saved, sum(one.size - (known[one.name].size if one.name in known else 0) for one in saved), damage


def _has(backups: Backups, known: SavedSegment | None, size: int) -> bool:
    return known is not None and known.size == size and backups.has(known)


def reads_back(backups: Backups, segment: SavedSegment) -> bool:
    """Whether the bytes that were saved of a segment are those that were copied; raises ``OSError``."""
    digest = blake3()
    for piece in backups.pieces(segment):
        digest.update(piece)
    return digest.hexdigest() == segment.blake3


def _save_keys(data: Path, key_file: Path, target: Path) -> None:
    target.mkdir(parents=True, exist_ok=True, mode=0o700)
    for source, name in ((key_file, "secrets.key"), (data / "secret-key", "secret-key")):
        if source.exists():
            write_durably(target / name, source.read_bytes())
    sync_folder(target)
