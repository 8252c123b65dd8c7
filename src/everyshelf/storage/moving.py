"""Move sealed segments to the homes of their stores, or back into the folder, while they are read and written.

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

from everyshelf.core.content.scanning import DIRECTORY, directory_name
from everyshelf.core.content.stores import MAIN, SEGMENT, store_of
from everyshelf.core.errors import EveryShelfError, OutOfReachError, RefusedError
from everyshelf.storage.addresses import Address, FolderAddress
from everyshelf.storage.away import Away
from everyshelf.storage.folder import OWNER
from everyshelf.storage.home import STUB, Home, HomePlace, Stub, away_at, remove_object

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
    """What a run moved, and how many objects of no segment it removed where segments live.

    ``missing``: segments whose bytes are not where they were put; ``changed``: those that are not what was sent there.
    The latter are moved as they are: records check themselves, and what is damaged is healed from a copy.
    """

    segments: int
    bytes: int
    cleared: int
    missing: list[str]
    changed: list[str]


def where(place: HomePlace, store: str | None = None) -> Where:
    """How far the segments of a place, or of one of its stores, are from where they are to live."""
    home, at_home, waiting = place.home(), 0, []
    for name in _sealed(place):
        if store is not None and store_of(name) != store:
            continue
        with contextlib.suppress(FileNotFoundError):
            size = place.size(name)
            if _address(place, name) == home.address_of(store_of(name)):
                at_home += size
            else:
                waiting.append(size)
    return Where(at_home, sum(waiting), len(waiting))


def settle(place: HomePlace, address: Address | None, store: str = MAIN, *, take_over: bool = False) -> Home:
    """Let the segments of a store live at an address, or in the folder, from now on; raises what ``tried`` raises."""
    home = tried(place, address, store, take_over=take_over)
    place.settle(home)
    return home


def tried(place: HomePlace, address: Address | None, store: str = MAIN, *, take_over: bool = False) -> Home:
    """The home in which the segments of a store live at an address, or in the folder, for ``HomePlace.settle``; the
    address is tried and claimed for this installation.

    Raises ``OutOfReachError`` where it does not answer or refuses something that is needed, and ``RefusedError`` where
    it holds the segments of another installation. ``take_over``: those become this one's.
    """
    before = place.home()
    if address is None:
        return before.settled(store, "")
    if isinstance(address, FolderAddress) and _within(address.path, place.folder.parent.resolve()):
        raise RefusedError(
            f"{address.told} lies in the data folder",
            code="storage.taken",
            hint="Name a folder of its own, on the disk that has room; folder stands for the data folder.",
        )
    place.settle(before)  # its name is to be known before a bucket knows it
    away = away_at(str(address))
    _try(away)
    owner = place.claim(away, before.installation, take_over=take_over)
    if owner != before.installation:
        raise RefusedError(
            f"{address.told} holds the segments of another installation",
            code="storage.taken",
            hint="Name another prefix, or another folder. If that installation is gone for good and its segments are "
            "to be used here, repeat with --take-over.",
        )
    if take_over:
        _take_over(place, away, str(address))
    return before.settled(store, str(address))


def _within(path: Path, folder: Path) -> bool:
    return path == folder or folder in path.parents


def _try(away: Away) -> None:
    """Write, read, list and remove an object."""
    data = os.urandom(64)
    away.write(_TRIAL, data)
    with contextlib.suppress(FileNotFoundError):
        if away.read(_TRIAL, 0, 64) == data and _TRIAL in away.names():
            away.remove([_TRIAL])
            if _TRIAL not in away.names():
                return
    raise OutOfReachError(
        f"{away.address.told} does not give back what was written to it",
        code="storage.trial",
        hint="Look at its rules: what this service writes must stay, unchanged, until it removes it.",
    )


def _take_over(place: HomePlace, away: Away, address: str) -> None:
    """Write stubs for the segments there that this place does not know."""
    known, there = set(place.names()), away.names()
    for name in sorted(one for one in there if one.endswith(SEGMENT) and one not in known):
        size, digest = away.digest(name)
        if directory_name(name) in there:
            place.write_whole(directory_name(name), away.read(directory_name(name), 0, there[directory_name(name)]))
        place.write_stub(name, Stub(address, size, digest))


def move(place: HomePlace, progress: Progress = lambda done, total: None) -> Moved:
    """Move all sealed segments to where they are to live; the caller holds ``HomePlace.moving``.

    A call of ``progress`` that raises ends it between two of them, or within one, and leaves all readable. Raises
    ``OutOfReachError`` and ``StorageError``, those of one store after the others were moved.
    """
    home = place.home()
    sizes = {}
    for name in _sealed(place):
        with contextlib.suppress(FileNotFoundError):
            if _address(place, name) != home.address_of(store_of(name)):
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
    cleared = sum(run.clear(address) for address in dict.fromkeys(map(home.address_of, home.names)) if address)
    if run.failed:
        raise next(iter(run.failed.values()))
    return Moved(len(moved), sum(moved), cleared, run.missing, run.changed)


class _Run:
    """One run: what it moves, what it found wrong, and which addresses it left alone after they failed."""

    def __init__(self, place: HomePlace, home: Home) -> None:
        self._place, self._home = place, home
        self._own: set[str] = set()  # addresses that were found to be this installation's
        self.failed: dict[str, EveryShelfError] = {}
        self.missing: list[str] = []
        self.changed: list[str] = []

    def move(self, name: str, progress: Callable[[int], None]) -> bool:
        """Move a segment; False if it was not moved."""
        place, address = self._place, self._home.address_of(store_of(name))
        if not self._is_usable(address):
            return False
        if place.lies_here(name):
            return self._tried(address, lambda: self._send(name, address, progress)) if address else self._stay(name)
        stub = place.stub(name)
        if stub is None or stub.address in self.failed:
            return False
        return self._tried(stub.address, lambda: self._bring(name, stub, address, progress))

    def clear(self, address: str) -> int:
        """Remove objects that belong to no segment; gives how many."""
        if not self._is_usable(address):
            return 0
        try:
            return _clear(self._place, away_at(address))
        except OutOfReachError as error:
            self.failed[address] = error
            return 0

    def _is_usable(self, address: str) -> bool:
        """Whether segments may be sent there: it answers, and no other installation has taken it over."""
        if not address or address in self._own:
            return True
        if address not in self.failed and self._tried(address, lambda: self._is_own(address)):
            self._own.add(address)
        return address in self._own

    def _is_own(self, address: str) -> bool:
        return is_own(self._place, away_at(address), self._home)

    def _tried(self, address: str, act: Callable[[], bool]) -> bool:
        """What an act gives; False where the address fails: then it is left alone, and other stores are seen to."""
        try:
            return act()
        except (OutOfReachError, RefusedError) as error:
            self.failed[address] = error
            return False

    def _send(self, name: str, address: str, progress: Callable[[int], None]) -> bool:
        """From the folder to where it is to live."""
        place, away = self._place, away_at(address)
        try:
            size, digest = _digest_of(place.folder / name)
            away.send(name, place.folder / name, progress)
            away.send(directory_name(name), place.folder / directory_name(name))
        except FileNotFoundError:
            return False  # removed meanwhile; its copy goes with the next clearing
        _compare(away, name, size, digest)
        with place.alone(wait=True):
            if not place.lies_here(name):
                return False
            before = place.stub(name)
            place.write_stub(name, Stub(address, size, digest))
            place.drop_bytes(name)
        _remove_elsewhere(before, address, name)
        return True

    def _stay(self, name: str) -> bool:
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

    def _bring(self, name: str, stub: Stub, address: str, progress: Callable[[int], None]) -> bool:
        """From elsewhere into the folder, or on to where it is to live."""
        place = self._place
        hidden = place.folder / f".{name}{_BROUGHT}"
        try:
            got = away_at(stub.address).fetch(name, hidden, lambda part: progress(part // 2))
            if got != (stub.size, stub.blake3):
                self.changed.append(name)
            if address:
                away = away_at(address)
                away.send(name, hidden, lambda part: progress((stub.size + part) // 2))
                with contextlib.suppress(FileNotFoundError):
                    away.send(directory_name(name), place.folder / directory_name(name))
                _compare(away, name, *got)
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


def _compare(away: Away, name: str, size: int, digest: str) -> None:
    """Raise unless what was sent reads back."""
    if away.digest(name) != (size, digest):
        raise OutOfReachError(
            f"segment {name} does not read back from {away.address.told} as it was sent",
            code="storage.trial",
            hint="It stays in the data folder. Look at the service that has the bucket, or at the disk.",
        )


def is_own(place: HomePlace, away: Away, home: Home) -> bool:
    """True; raises if another installation has taken the address over: then nothing there is written or removed."""
    owner = place.owner(away)
    if not owner:
        raise OutOfReachError(
            f"{away.address.told} does not say whose segments it holds: {OWNER} is missing there",
            code="storage.out_of_reach",
            hint="See whether its disk is mounted. If the file was removed, move versions there once more.",
        )
    if owner != home.installation:
        raise RefusedError(
            f"{away.address.told} was taken over by another installation",
            code="storage.taken",
            hint="Only one installation may use a prefix or a folder: end the other one, or move this one elsewhere.",
        )
    return True


def _clear(place: HomePlace, away: Away) -> int:
    """Remove objects that belong to no segment: what a killed run left, and what could not be removed in time."""
    there = away.names()
    with place.alone(wait=True):
        known = set(place.names())
        left = [
            name
            for name in there
            if name != OWNER and name.endswith((SEGMENT, DIRECTORY)) and _segment_of(name) not in known
        ]
        away.remove(left)
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
