"""Move sealed segments to the home of a store, or back into its folder, while it is read and written.

Of each segment first a copy is made where it is to live, then the copy is read back and compared by its hash, then the
stub is written in one step, and then what lay elsewhere is removed: a crash leaves both, and the next run goes on from
there. A segment that was removed meanwhile (``compacting``) is not brought back by its copy.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from blake3 import blake3

from everyshelf.core.content.scanning import DIRECTORY, SEGMENT, directory_name
from everyshelf.core.errors import OutOfReachError, RefusedError
from everyshelf.storage.addresses import BucketAddress
from everyshelf.storage.bucket import Bucket
from everyshelf.storage.home import OWNER, STUB, Home, HomePlace, Stub, bucket_at, remove_object

_PIECE_BYTES = 1024 * 1024
_TRIAL = "everyshelf-trial"
_BROUGHT = ".brought"

Progress = Callable[[int, int], None]


@dataclass(frozen=True)
class Where:
    """Bytes of sealed segments that live where they are to live, and of those that wait to be moved there."""

    at_home: int
    waiting: int
    waiting_segments: int


@dataclass(frozen=True)
class Moved:
    """What a run moved, and how many objects of no segment it removed from the bucket.

    ``missing``: segments whose bytes are not where they were put; ``changed``: those that are not what was sent there.
    The latter are moved as they are: records check themselves, and what is damaged is healed from a copy.
    """

    segments: int
    bytes: int
    cleared: int
    missing: list[str]
    changed: list[str]


def where(place: HomePlace) -> Where:
    """How far the segments of a place are from where they are to live."""
    home, at_home, waiting = place.home().address, 0, []
    for name in _sealed(place):
        with contextlib.suppress(FileNotFoundError):
            size = place.size(name)
            if _address(place, name) == home:
                at_home += size
            else:
                waiting.append(size)
    return Where(at_home, sum(waiting), len(waiting))


def settle(place: HomePlace, address: BucketAddress | None, *, take_over: bool = False) -> Home:
    """Let the segments of a place live at an address, or in its folder, from now on; a bucket is tried first.

    Raises ``OutOfReachError`` where it does not answer or refuses something that is needed, and ``RefusedError`` where
    it holds the segments of another installation. ``take_over``: those become this one's.
    """
    before = place.home()
    if address is None:
        home = Home(before.installation)
        place.settle(home)
        return home
    place.settle(before)  # its name is to be known before a bucket knows it
    bucket = Bucket(address)
    _try(bucket)
    owner = place.claim(bucket, before.installation, take_over=take_over)
    if owner != before.installation:
        raise RefusedError(
            f"{address.told} holds the segments of another installation",
            code="storage.taken",
            hint="Name another prefix. If that installation is gone for good and its segments are to be used here, "
            "repeat with --take-over.",
        )
    home = Home(before.installation, str(address))
    if take_over:
        _take_over(place, bucket, str(address))
    place.settle(home)
    return home


def _try(bucket: Bucket) -> None:
    """Write, read, list and remove an object."""
    data = os.urandom(64)
    bucket.write(_TRIAL, data)
    with contextlib.suppress(FileNotFoundError):
        if bucket.read(_TRIAL, 0, 64) == data and _TRIAL in bucket.names():
            bucket.remove([_TRIAL])
            if _TRIAL not in bucket.names():
                return
    raise OutOfReachError(
        f"{bucket.address.told} does not give back what was written to it",
        code="storage.trial",
        hint="Look at its rules: what this service writes must stay, unchanged, until it removes it.",
    )


def _take_over(place: HomePlace, bucket: Bucket, address: str) -> None:
    """Write stubs for the segments of a bucket that this place does not know."""
    known, there = set(place.names()), bucket.names()
    for name in sorted(one for one in there if one.endswith(SEGMENT) and one not in known):
        size, digest = bucket.digest(name)
        if directory_name(name) in there:
            place.write_whole(directory_name(name), bucket.read(directory_name(name), 0, there[directory_name(name)]))
        place.write_stub(name, Stub(address, size, digest))


def move(place: HomePlace, progress: Progress = lambda done, total: None) -> Moved:
    """Move all sealed segments to where they are to live; the caller holds ``HomePlace.moving``.

    A call of ``progress`` that raises ends it between two of them, or within one, and leaves all readable. Raises
    ``OutOfReachError`` and ``StorageError``.
    """
    home = place.home()
    if home.address:
        _require_own(place, bucket_at(home.address), home)
    names = [name for name in _sealed(place) if _address(place, name) != home.address]
    sizes = {}
    for name in names:
        with contextlib.suppress(FileNotFoundError):
            sizes[name] = place.size(name)
    for left in place.folder.glob(f".*{_BROUGHT}"):
        left.unlink(missing_ok=True)  # of a run that was killed
    run = _Run(place, home)
    total, done, moved = sum(sizes.values()), 0, []
    for name, size in sizes.items():
        progress(done, total)
        if run.move(name, lambda part, so_far=done: progress(so_far + part, total)):  # type: ignore[misc]
            moved.append(size)
        done += size
    progress(total, total)
    cleared = _clear(place, home) if home.address else 0
    return Moved(len(moved), sum(moved), cleared, run.missing, run.changed)


class _Run:
    """One run: what it moves, and what it found wrong."""

    def __init__(self, place: HomePlace, home: Home) -> None:
        self._place, self._home = place, home
        self.missing: list[str] = []
        self.changed: list[str] = []

    def move(self, name: str, progress: Callable[[int], None]) -> bool:
        """Move a segment; False if it was not moved."""
        place = self._place
        if place.lies_here(name):
            return self._send(name, progress) if self._home.address else self._settle_here(name)
        stub = place.stub(name)
        return stub is not None and self._bring(name, stub, progress)

    def _send(self, name: str, progress: Callable[[int], None]) -> bool:
        """From the folder to a bucket."""
        place, address = self._place, self._home.address
        bucket = bucket_at(address)
        try:
            size, digest = _digest_of(place.folder / name)
            bucket.send(name, place.folder / name, progress)
            bucket.send(directory_name(name), place.folder / directory_name(name))
        except FileNotFoundError:
            return False  # removed meanwhile; its copy goes with the next clearing
        _compare(bucket, name, size, digest)
        with place.alone(wait=True):
            if not place.lies_here(name):
                return False
            before = place.stub(name)
            place.write_stub(name, Stub(address, size, digest))
            place.drop_bytes(name)
        _remove_elsewhere(before, address, name)
        return True

    def _settle_here(self, name: str) -> bool:
        """Of a segment that was brought into the folder, and then the run was killed: take away what it left."""
        place = self._place
        with place.alone(wait=True):
            before = place.stub(name) if place.lies_here(name) else None
            if before is None:
                return False
            if _digest_of(place.folder / name) != (before.size, before.blake3):
                place.drop_bytes(name)  # the next run brings it once more
                return False
            place.drop_stub(name)
        _remove_elsewhere(before, "", name)
        return True

    def _bring(self, name: str, stub: Stub, progress: Callable[[int], None]) -> bool:
        """From a bucket into the folder, or to another bucket."""
        place, address = self._place, self._home.address
        hidden = place.folder / f".{name}{_BROUGHT}"
        try:
            got = bucket_at(stub.address).fetch(name, hidden, lambda part: progress(part // 2))
            if got != (stub.size, stub.blake3):
                self.changed.append(name)
            if address:
                bucket = bucket_at(address)
                bucket.send(name, hidden, lambda part: progress((stub.size + part) // 2))
                with contextlib.suppress(FileNotFoundError):
                    bucket.send(directory_name(name), place.folder / directory_name(name))
                _compare(bucket, name, *got)
            with place.alone(wait=True):
                if place.stub(name) != stub:
                    return False
                if address:
                    place.write_stub(name, Stub(address, *got))
                else:
                    os.replace(hidden, place.folder / name)
                    place.drop_stub(name)
            _remove_elsewhere(stub, address, name)
        except FileNotFoundError:
            place.forget(name)
            if place.stub(name) == stub:
                self.missing.append(name)
            return False
        finally:
            hidden.unlink(missing_ok=True)
        return True


def _remove_elsewhere(before: Stub | None, address: str, name: str) -> None:
    if before is not None and before.address != address:
        with contextlib.suppress(OutOfReachError):  # what stays harms nothing: nobody looks for it any more
            remove_object(before.address, name)


def _compare(bucket: Bucket, name: str, size: int, digest: str) -> None:
    """Raise unless the bucket gives back what was sent."""
    if bucket.digest(name) != (size, digest):
        raise OutOfReachError(
            f"segment {name} does not read back from {bucket.address.told} as it was sent",
            code="storage.trial",
            hint="It stays on this machine. Look at the service that has the bucket.",
        )


def _require_own(place: HomePlace, bucket: Bucket, home: Home) -> None:
    """Raise if another installation has taken the bucket over: then nothing there is written or removed."""
    if place.owner(bucket) != home.installation:
        raise RefusedError(
            f"{bucket.address.told} was taken over by another installation",
            code="storage.taken",
            hint="Only one installation may use a prefix: end the other one, or move this one elsewhere.",
        )


def _clear(place: HomePlace, home: Home) -> int:
    """Remove objects that belong to no segment: what a killed run left, and what could not be removed in time."""
    bucket = bucket_at(home.address)
    there = bucket.names()
    with place.alone(wait=True):
        known = set(place.names())
        left = [
            name
            for name in there
            if name != OWNER and name.endswith((SEGMENT, DIRECTORY)) and _segment_of(name) not in known
        ]
        bucket.remove(left)
    return len(left)


def _segment_of(name: str) -> str:
    return name.removesuffix(DIRECTORY) + SEGMENT if name.endswith(DIRECTORY) else name


def _sealed(place: HomePlace) -> list[str]:
    """The segments that nothing is added to any more: they have a directory."""
    names = set(place.names())
    return sorted(name for name in names if name.endswith(SEGMENT) and directory_name(name) in names)


def _address(place: HomePlace, name: str) -> str:
    """Where a segment lives; of one that lies in the folder although it has a stub: neither."""
    stub = place.stub(name)
    if place.lies_here(name):
        return "" if stub is None else STUB
    return stub.address if stub is not None else ""


def _digest_of(path: Path) -> tuple[int, str]:
    digest, size = blake3(), 0
    with path.open("rb") as file:
        while piece := file.read(_PIECE_BYTES):
            digest.update(piece)
            size += len(piece)
    return size, digest.hexdigest()
