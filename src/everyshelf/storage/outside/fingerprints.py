"""SHA-256 of files that lie outside the store, a batch at a time, by whatever process."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

from everyshelf.core.content.outside import Stamp
from everyshelf.core.errors import EveryShelfError
from everyshelf.storage.outside.places import OutsidePlace

Told = Callable[[int], None]


@dataclass(frozen=True)
class Wanted:
    """A file, and what its place said of it when it was registered."""

    address: str
    stamp: Stamp


def digests_of(opened: Callable[[], OutsidePlace], files: Sequence[Wanted], told: Told) -> list[str]:
    """The SHA-256 of each file; empty for one that was not read as it was: whoever asked finds out why.

    ``opened`` gives what reads them; ``told`` gets how many bytes were read.
    """
    place, before, found = opened(), 0, list[str]()
    for file in files:

        def tell(so_far: int, before: int = before) -> None:
            told(before + so_far)

        try:
            found.append(digest(place.read(file.address, file.stamp, 0, file.stamp.size), tell))
        except (EveryShelfError, OSError):
            found.append("")
        before += file.stamp.size
    return found


def digest(pieces: Iterable[bytes], told: Told) -> str:
    """SHA-256 as hex; ``told`` gets how many bytes were read."""
    made, so_far = hashlib.sha256(), 0
    for piece in pieces:
        made.update(piece)
        so_far += len(piece)
        told(so_far)
    return made.hexdigest()
