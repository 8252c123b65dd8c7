"""Drop old moments, and the bytes that only they needed."""

from __future__ import annotations

import os
import shutil

from everyshelf.service.backups.layout import BackupFolder, sync_folder


def keep_newest(folder: BackupFolder, count: int) -> list[str]:
    """Remove all but the ``count`` newest moments and what no other needs; gives the names of those removed."""
    with folder.alone():
        gone = folder.names()[: -max(1, count)]
        for name in gone:
            hidden = folder.moments / f".{name}.gone"
            os.rename(folder.moments / name, hidden)
            shutil.rmtree(hidden)
        sync_folder(folder.moments)
        if gone and len(folder.all()) == len(folder.names()):  # what a moment that cannot be read needs is not known
            needed = {segment.name for moment in folder.all() for segment in moment.segments}
            for path in folder.segments.iterdir():
                if path.name not in needed:
                    path.unlink()
    return gone
