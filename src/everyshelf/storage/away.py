"""Somewhere else than the data folder where sealed segments live: a bucket, or another folder."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator
from pathlib import Path

from blake3 import blake3

from everyshelf.core.durable import to_disk
from everyshelf.core.errors import StorageError
from everyshelf.storage.addresses import Address

PIECE_BYTES = 16 * 1024 * 1024

Progress = Callable[[int], None]


class Away(ABC):
    """Named objects, written once and read in ranges. Safe to use from several threads and after a fork.

    Where it does not answer, or refuses, all methods raise ``OutOfReachError``: then nothing is said of the objects.
    """

    address: Address

    @abstractmethod
    def require_answering(self) -> None:
        """Raise ``OutOfReachError`` at once if it was found not to answer moments ago."""

    @abstractmethod
    def read(self, name: str, offset: int, length: int) -> bytes:
        """Up to ``length`` bytes of an object from ``offset``; raises ``FileNotFoundError``."""

    @abstractmethod
    def names(self) -> dict[str, int]:
        """All objects, with their lengths."""

    @abstractmethod
    def write(self, name: str, data: bytes) -> None:
        """Create or replace a small object."""

    @abstractmethod
    def send(self, name: str, path: Path, progress: Progress = lambda done: None) -> None:
        """Create or replace an object by the bytes of a file; ``progress`` is told how many were sent."""

    @abstractmethod
    def remove(self, names: list[str]) -> None:
        """Remove objects; nothing happens for those that are gone already."""

    def pieces(self, name: str) -> Iterator[bytes]:
        """An object from beginning to end; raises ``FileNotFoundError``."""
        at = 0
        while piece := self.read(name, at, PIECE_BYTES):
            yield piece
            at += len(piece)
            if len(piece) < PIECE_BYTES:
                return

    def digest(self, name: str) -> tuple[int, str]:
        """Length of an object and the BLAKE3 of what is read back, in hex; raises ``FileNotFoundError``."""
        digest, size = blake3(), 0
        for piece in self.pieces(name):
            digest.update(piece)
            size += len(piece)
        return size, digest.hexdigest()

    def fetch(self, name: str, path: Path, progress: Progress = lambda done: None) -> tuple[int, str]:
        """Write an object to a file, durably; gives its length and BLAKE3. Raises ``FileNotFoundError``."""
        digest, size = blake3(), 0
        try:
            with path.open("wb") as file:
                for piece in self.pieces(name):
                    digest.update(piece)
                    size += file.write(piece)
                    progress(size)
                to_disk(file)
        except FileNotFoundError:
            path.unlink(missing_ok=True)
            raise
        except OSError as error:
            path.unlink(missing_ok=True)
            raise StorageError(f"{path} could not be written: {error.strerror}") from error
        return size, digest.hexdigest()
