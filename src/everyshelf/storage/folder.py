"""Another folder where sealed segments live: on a larger disk, or mounted from another machine."""

from __future__ import annotations

import contextlib
import os
import uuid
from collections.abc import Callable
from pathlib import Path

from everyshelf.core.durable import sync_folder
from everyshelf.core.errors import OutOfReachError
from everyshelf.storage.addresses import FolderAddress
from everyshelf.storage.away import Away, Progress

OWNER = "everyshelf.json"
_COPIED_BYTES = 1024 * 1024
_PART = ".part"


class Folder(Away):
    """The files of a folder. One that has lost ``everyshelf.json``, which says whose it is, is taken for a disk that is
    not mounted: what lies there is out of reach, not gone."""

    def __init__(self, address: FolderAddress) -> None:
        self.address: FolderAddress = address
        self._path = address.path

    def require_answering(self) -> None:
        """Nothing: a folder answers at once, or not at all."""

    def read(self, name: str, offset: int, length: int) -> bytes:
        try:
            descriptor = os.open(self._path / name, os.O_RDONLY | os.O_CLOEXEC)
        except FileNotFoundError:
            if name != OWNER:
                self._require_mounted()
            raise
        except OSError as error:
            raise self._away(error.strerror) from error
        try:
            return os.pread(descriptor, length, offset) if length > 0 else b""
        except OSError as error:
            raise self._away(error.strerror) from error
        finally:
            os.close(descriptor)

    def names(self) -> dict[str, int]:
        try:
            with os.scandir(self._path) as found:
                files = [one for one in found if one.is_file() and not one.name.endswith(_PART)]
                return {one.name: one.stat().st_size for one in files}
        except OSError as error:
            raise self._away(error.strerror) from error

    def write(self, name: str, data: bytes) -> None:
        self._write(name, lambda file: os.write(file, data))

    def send(self, name: str, path: Path, progress: Progress = lambda done: None) -> None:
        self._require_mounted()

        def copy(file: int) -> None:
            sent = 0
            while piece := source.read(_COPIED_BYTES):
                view = memoryview(piece)
                while view:
                    view = view[os.write(file, view) :]
                sent += len(piece)
                progress(sent)

        with path.open("rb") as source:
            self._write(name, copy)

    def _write(self, name: str, fill: Callable[[int], object]) -> None:
        """Create or replace a file in one step, durably."""
        part = self._path / f".{uuid.uuid4().hex}{_PART}"
        try:
            self._path.mkdir(mode=0o700, exist_ok=True)
            descriptor = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600)
            try:
                fill(descriptor)
                os.fsync(descriptor)
            finally:
                os.close(descriptor)
            os.replace(part, self._path / name)
            sync_folder(self._path)
        except OSError as error:
            raise self._away(error.strerror) from error
        finally:
            with contextlib.suppress(OSError):  # where the folder cannot be reached, nothing was written
                part.unlink()

    def remove(self, names: list[str]) -> None:
        try:
            for name in names:
                (self._path / name).unlink(missing_ok=True)
            if names:
                sync_folder(self._path)
        except OSError as error:
            raise self._away(error.strerror) from error

    def _require_mounted(self) -> None:
        if not os.path.exists(self._path / OWNER):  # False, too, where it may not be looked at
            raise self._away(f"{OWNER} is missing there")

    def _away(self, why: str | None) -> OutOfReachError:
        return OutOfReachError(
            f"{self.address.told} cannot be used: {why}",
            code="storage.out_of_reach",
            hint="See whether its disk is mounted, has room, and lets this service read and write. Nothing is lost: "
            "versions that could not be sent wait in the data folder.",
        )
