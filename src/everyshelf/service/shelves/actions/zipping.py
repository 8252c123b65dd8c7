"""A folder of a shelf, or some artifacts, as one zip, made while it is sent; what is taken slowly waits on the disk of
the server."""

from __future__ import annotations

import threading
import zipfile
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime
from io import RawIOBase
from typing import Any

from everyshelf.core.errors import EveryShelfError, LimitError, MissingError
from everyshelf.core.history.trees import Entry
from everyshelf.service.base.context import get_store, get_trees
from everyshelf.service.base.room import require_room
from everyshelf.service.shelves.actions.listing import get_artifact
from everyshelf.service.shelves.actions.refs import Resolved
from everyshelf.service.shelves.models import Shelf

AT_ONCE = 4  # each needs a thread of the service until it is made
_FIRST = datetime(1980, 1, 1, tzinfo=UTC)  # a zip knows no earlier time
_PIECE_BYTES = 64 * 1024
_LOOK_BYTES = 64 * 1024 * 1024  # after so many it is asked whether the disk has room for more
_LARGE = 2**31
_places = threading.BoundedSemaphore(AT_ONCE)


def files_to_zip(shelf: Shelf, at: Resolved, folder: str, paths: Sequence[str]) -> Iterator[tuple[str, Entry]]:
    """Name in the zip and file of all that is meant: everything at the ref, what lies in a folder, or these artifacts.
    Raises ``MissingError`` before the first."""
    trees = get_trees()
    if paths:
        found = [(path, get_artifact(shelf, at, path)[0]) for path in paths]
        return (file for path, entry in found for file in _files_of(path, entry))
    if not folder:
        return trees.files(at.root)
    path = folder.rstrip("/")
    entry = trees.find(at.root, path)
    if entry is None or entry.type == "artifact":
        raise MissingError(
            f"{at.ref} has no folder {path!r}", code="folder.missing", hint="List what there is: everyshelf browse"
        )
    return trees.files(entry.id, f"{entry.name}/")


def _files_of(path: str, entry: Entry) -> Iterator[tuple[str, Entry]]:
    if entry.type == "whole":
        yield from get_trees().files(entry.id, f"{path}/")
    else:
        yield path, entry


class ZipPieces:
    """The bytes of the zip, piece by piece; the same state gives the same bytes. ``moment``: the time its files have.

    Raises ``LimitError`` while too many are being taken; ``close`` has to be called at the end.
    """

    def __init__(self, files: Iterator[tuple[str, Entry]], moment: datetime | None) -> None:
        self._holds = _places.acquire(blocking=False)
        if not self._holds:
            raise LimitError(
                f"{AT_ONCE} zips are being downloaded already, which is the most at once",
                code="zip.busy",
                hint="Try again in a minute, or take the artifacts to a desk: everyshelf take",
            )
        self._pieces = _zipped(files, moment or _FIRST)

    def __iter__(self) -> Iterator[bytes]:
        return self._pieces

    def close(self) -> None:
        """Let another one begin."""
        if self._holds:
            self._holds = False
            _places.release()


def _zipped(files: Iterator[tuple[str, Entry]], moment: datetime) -> Iterator[bytes]:
    out, sent = _Out(), 0
    stamp: Any = max(moment.astimezone(UTC), _FIRST).timetuple()[:6]
    lacking: list[str] = []
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as packed:
        for name, entry in files:
            if why_not := _why_not(entry):
                lacking.append(f"{name}: {why_not}")
                continue
            member = zipfile.ZipInfo(name, stamp)
            member.compress_type, member.external_attr = zipfile.ZIP_DEFLATED, 0o644 << 16
            with packed.open(member, "w", force_zip64=entry.size >= _LARGE) as target:
                for piece in get_store().iter_range(entry.id):
                    target.write(piece)
                    if out.held >= _PIECE_BYTES:
                        sent += out.held
                        yield out.taken()
                    if sent >= _LOOK_BYTES:
                        sent = 0
                        require_room()
        if lacking:
            packed.writestr(zipfile.ZipInfo(LACKING, stamp), "\n".join([_LACKING_HEAD, *lacking, ""]))
    yield out.taken()


LACKING = "NOT-IN-THIS-ZIP.txt"
_LACKING_HEAD = "These artifacts could not be read, and are not in this zip:"


def _why_not(entry: Entry) -> str:
    """Why a file cannot be had; empty where it can. It is read once before its member begins, because nothing that was
    sent can be taken back."""
    try:
        for _ in get_store().iter_range(entry.id):
            pass
    except EveryShelfError as error:
        return error.message
    return ""


class _Out(RawIOBase):
    """What was written and not taken yet."""

    def __init__(self) -> None:
        super().__init__()
        self._written: list[bytes] = []
        self.held = 0

    def writable(self) -> bool:
        return True

    def write(self, data: Any) -> int:
        self._written.append(bytes(data))
        self.held += len(data)
        return len(data)

    def taken(self) -> bytes:
        """What was written since the last time."""
        written, self._written, self.held = b"".join(self._written), [], 0
        return written
