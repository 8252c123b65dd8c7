"""Contents whose bytes lie in a place outside the store: the note that stands for one, and what has to read it.

The store keeps the note as a record of its own kind. The content's id is the hash of the note, not of bytes that
may never have been read; a number drawn at random in it keeps others from making a content with the same id.
"""

from __future__ import annotations

import secrets
from collections.abc import Iterator
from pathlib import Path
from typing import Protocol

import msgspec

from everyshelf.core.errors import ConflictError, StorageError
from everyshelf.decoding import from_json

_BLOCK_BYTES = 1024 * 1024
_MOST_BLOCKS = 65_536
_NUMBER_BYTES = 32


class Stamp(msgspec.Struct, frozen=True, omit_defaults=True):
    """What a place says of bytes without giving them: their length, and what is another once they are written again.

    ``modified`` and ``changed`` as the place writes them (of a file: nanoseconds since 1970; ``changed`` is the time of
    the last change of bytes or rights, which programs cannot set).
    """

    size: int
    modified: str = ""
    changed: str = ""
    etag: str = ""


class OutsideNote(msgspec.Struct, frozen=True):
    """Where the bytes lie, what the place said of them, and the name of the credentials for it."""

    address: str
    stamp: Stamp
    access: str
    drawn: str


class Outside(Protocol):
    """Reads what lies outside the store."""

    def read(self, note: OutsideNote, start: int, stop: int) -> Iterator[bytes]:
        """Give bytes ``start`` to ``stop``, in pieces, as they were when the note was made. Raise ``ChangedError``
        before giving any that may be others, and ``OutOfReachError`` where the place does not answer."""
        ...

    def check(self, note: OutsideNote) -> None:
        """Raise as ``read`` does, without reading."""
        ...

    def local(self, note: OutsideNote) -> Path | None:
        """Return the file of this machine that holds the bytes, if one does."""
        ...


class ChangedError(ConflictError):
    """The bytes of a version lie outside the store, and are not those of that version any more."""

    code = "in_place.changed"
    hint = (
        "Register what is there now, as a new version: everyshelf in-place add. "
        "The older version can be read again when its bytes are back."
    )


class NothingOutside:
    """For stores of processes that read nothing outside."""

    def read(self, note: OutsideNote, start: int, stop: int) -> Iterator[bytes]:
        """Raise ``StorageError``."""
        raise StorageError(
            f"{note.address} lies outside the store, and this program does not read there",
            code="in_place.elsewhere",
            hint="Read it through the service.",
        )

    def check(self, note: OutsideNote) -> None:
        """Raise ``StorageError``."""
        self.read(note, 0, 0)

    def local(self, note: OutsideNote) -> Path | None:
        """Return None."""
        return None


def draw_note(address: str, stamp: Stamp, access: str = "") -> OutsideNote:
    """Make a note that no other is equal to."""
    return OutsideNote(address, stamp, access, secrets.token_hex(16))


def parse_note(payload: bytes) -> OutsideNote:
    """Read what the store keeps."""
    return from_json(payload, OutsideNote)


def blocks_of(size: int) -> list[tuple[bytes, int]]:
    """Name and length of the blocks that bytes outside are read in where a part is asked for."""
    step = max(_BLOCK_BYTES, -(-size // _MOST_BLOCKS))
    return [(at.to_bytes(_NUMBER_BYTES), min(step, size - at)) for at in range(0, size, step)]


def range_of_block(block: bytes, size: int) -> tuple[int, int]:
    """The range of bytes that a name of ``blocks_of`` says."""
    at = int.from_bytes(block)
    return at, min(at + max(_BLOCK_BYTES, -(-size // _MOST_BLOCKS)), size)
