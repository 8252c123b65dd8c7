"""Reading what lies outside the store, for the store."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import msgspec

from everyshelf.core.content.ids import content_id
from everyshelf.core.content.outside import OutsideNote, Stamp
from everyshelf.decoding import converted
from everyshelf.service.base.unchanged import while_unchanged
from everyshelf.service.in_place.actions.places import reader_of, told
from everyshelf.service.shelves.models import OutsideContent
from everyshelf.storage.outside.places import differs, gone, same_bytes


class ServiceOutside:
    """Folders, buckets and servers, with the credentials of the shelf on which the data was registered."""

    def read(self, note: OutsideNote, start: int, stop: int) -> Iterator[bytes]:
        """Give the bytes as they were when they were registered (see ``Outside``)."""
        try:
            yield from reader_of(note.address, _shelf(note)).read(note.address, _stamp(note), start, stop)
        except FileNotFoundError as error:
            raise gone(told(note.address)) from error

    def check(self, note: OutsideNote) -> None:
        """Raise ``ChangedError`` where the place says something else of the bytes than it did."""
        try:
            now = reader_of(note.address, _shelf(note)).stamp(note.address)
        except FileNotFoundError as error:
            raise gone(told(note.address)) from error
        if not same_bytes(_stamp(note), now):
            raise differs(told(note.address), _stamp(note), now)

    def local(self, note: OutsideNote) -> Path | None:
        """Return the path, for data of this machine."""
        return Path(note.address) if note.address.startswith("/") else None


def _shelf(note: OutsideNote) -> int | None:
    return int(note.access) if note.access else None


def _stamp(note: OutsideNote) -> Stamp:
    """What the place says of these bytes: at first that of the note, another since their fingerprint was found again
    under another."""
    content = content_id(msgspec.json.encode(note))
    rows = OutsideContent.objects.filter(content=content)
    stamp = while_unchanged(("outside stamp", content), lambda: rows.values_list("stamp", flat=True).first())
    return converted(stamp, Stamp) if stamp is not None else note.stamp
