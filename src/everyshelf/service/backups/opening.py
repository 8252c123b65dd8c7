"""Places of backups by how they are named: a folder, or ``s3://BUCKET/PREFIX``."""

from __future__ import annotations

from pathlib import Path

from everyshelf.service.backups.folder import BackupFolder
from everyshelf.service.backups.in_bucket import BackupBucket
from everyshelf.service.backups.layout import Backups
from everyshelf.storage.addresses import is_bucket, parse_bucket
from everyshelf.storage.bucket import Bucket


def open_backups(place: str | Path, endpoint: str = "") -> Backups:
    """Backups that are there; raises ``MissingError``, ``BrokenError``, ``OutOfReachError``, and ``InvalidError`` for
    what is not an address. ``endpoint``: address of the service that has the bucket, where the place names none."""
    if is_bucket(place):
        return BackupBucket.open(Bucket(parse_bucket(str(place), endpoint)))
    return BackupFolder.open(Path(place))


def make_backups(place: str | Path, endpoint: str = "") -> Backups:
    """Backups that are there, or a new place for them where nothing else lies."""
    if is_bucket(place):
        return BackupBucket.make(Bucket(parse_bucket(str(place), endpoint)))
    return BackupFolder.make(Path(place))
