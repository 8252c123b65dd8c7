"""Drop old moments, and the bytes that only they needed."""

from __future__ import annotations

from everyshelf.service.backups.layout import Backups


def keep_newest(backups: Backups, count: int) -> list[str]:
    """Remove all but the ``count`` newest moments and what no other needs; gives the names of those removed."""
    with backups.alone():
        gone = backups.names()[: -max(1, count)]
        backups.remove(gone)
        if gone and len(backups.all()) == len(backups.names()):  # what a moment that cannot be read needs is not known
            backups.sweep([segment for moment in backups.all() for segment in moment.segments])
    return gone
