"""The place of stores whose sealed segments may live elsewhere: in a bucket, or in another folder.

The folder stays what everything is agreed on in: processes append to segments in it (what was acknowledged is durable
there), and it holds the directories, the locks and the notes. A segment that was sent away and read back leaves a
*stub* in its place: a small file that says where its bytes are, how many, and their BLAKE3. A segment lies in the
folder, or has a stub, or for a moment both; never neither while anything needs it.

Where the segments of a store (``core.content.stores``) are to live is its *home*: this folder, or an address. What lies
elsewhere is moved by ``moving``.
"""

from __future__ import annotations

import contextlib
import fcntl
import functools
import os
import threading
import uuid
from collections.abc import Callable, Iterator
from pathlib import Path

import msgspec

from everyshelf.core.content.place import Appender, FolderPlace
from everyshelf.core.content.scanning import directory_name
from everyshelf.core.content.stores import MAIN, SEGMENT
from everyshelf.core.errors import BrokenError, OutOfReachError, StorageError
from everyshelf.decoding import from_json
from everyshelf.storage.addresses import Address, FolderAddress, parse_address
from everyshelf.storage.away import Away
from everyshelf.storage.bucket import Bucket
from everyshelf.storage.fetched import BLOCK_BYTES, Fetched
from everyshelf.storage.folder import OWNER, Folder

STUB = ".away"
_HOME, _MOVING = ".home", ".moving"
_LOOKS = 3
_CACHE_BYTES = 4 * 1024**3
_LONG_BYTES = 2 * BLOCK_BYTES  # longer reads go past what is kept: they read a segment from end to end


class Home(msgspec.Struct, frozen=True):
    """Where sealed segments are to live: by store an address, or empty for the folder. ``address`` is that of the main
    store. ``installation`` is the name under which a bucket knows this folder."""

    installation: str
    address: str = ""
    stores: dict[str, str] = {}

    @property
    def names(self) -> list[str]:
        """The stores, the main one first."""
        return [MAIN, *sorted(self.stores)]

    def address_of(self, store: str) -> str:
        """Where the segments of a store are to live; of one that is not known: in the folder."""
        return self.address if store == MAIN else self.stores.get(store, "")

    def lives(self, store: str = MAIN) -> Address | None:
        """The same as what it says; None for the folder."""
        address = self.address_of(store)
        return parse_address(address) if address else None

    def settled(self, store: str, address: str) -> Home:
        """This, with that store living there."""
        if store == MAIN:
            return Home(self.installation, address, self.stores)
        return Home(self.installation, self.address, {**self.stores, store: address})

    def without(self, store: str) -> Home:
        """This, without that store."""
        return Home(self.installation, self.address, {k: v for k, v in self.stores.items() if k != store})


class Stub(msgspec.Struct, frozen=True):
    """Where the bytes of a segment are instead."""

    address: str
    size: int
    blake3: str


class Owner(msgspec.Struct, frozen=True):
    """Whose segments lie at an address."""

    installation: str


class HomePlace(FolderPlace):
    """A folder, some of whose segments lie in buckets. ``fetched``: where what is read from those is kept."""

    def __init__(self, folder: Path, fetched: Path, most_bytes: int) -> None:
        super().__init__(folder)
        self._stubs: dict[str, Stub] = {}
        self._stubs_lock = threading.Lock()
        self._seen: set[str] = set()
        self.fetched = Fetched(fetched, most_bytes)

    # --- the home ----------------------------------------------------------

    def home(self) -> Home:
        """Where sealed segments are to live."""
        stored = self.read_note(_HOME)
        if not stored:
            return Home(uuid.uuid4().hex)
        try:
            return from_json(stored, Home)
        except msgspec.DecodeError as error:
            raise BrokenError(
                f"{self.folder / _HOME}, which says where segments live, is damaged",
                code="storage.home",
                hint="Put the file back from a copy of the data folder, or remove it and run everyshelf storage move.",
            ) from error

    @contextlib.contextmanager
    def moving(self, waiting: Callable[[], None]) -> Iterator[None]:
        """Be the only one in any process who moves segments; ``waiting`` is called, again and again, while another is,
        and may raise. Two runs would write one file."""
        descriptor = os.open(self.folder / _MOVING, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        try:
            while not _is_locked(descriptor):
                waiting()
            yield
        finally:
            os.close(descriptor)

    def settle(self, home: Home) -> None:
        """Let sealed segments live there from now on."""
        self.write_note(_HOME, msgspec.json.encode(home))

    def claim(self, away: Away, installation: str, *, take_over: bool = False) -> str:
        """Give the name of the installation whose segments lie there: this one's from now on, where there were none or
        they are to be taken over."""
        owner = self.owner(away)
        if owner and not take_over:
            return owner
        away.write(OWNER, msgspec.json.encode(Owner(installation)))
        return self.owner(away)

    @staticmethod
    def owner(away: Away) -> str:
        """The name of the installation whose segments lie there; empty for none."""
        try:
            return from_json(away.read(OWNER, 0, 4096), Owner).installation
        except FileNotFoundError:
            return ""
        except msgspec.DecodeError as error:
            raise OutOfReachError(
                f"{OWNER} in {away.address.told}, which says whose segments lie there, is damaged",
                code="storage.owner",
                hint="Use another prefix, or another folder.",
            ) from error

    # --- stubs -------------------------------------------------------------

    def stub(self, name: str) -> Stub | None:
        """Where a segment is that does not lie in the folder, as of now."""
        stored = self.read_note(_stub_name(name))
        if not stored:
            return None
        try:
            return from_json(stored, Stub)
        except msgspec.DecodeError as error:
            raise BrokenError(f"{_stub_name(name)}, which says where a segment lies, is damaged") from error

    def _known_stub(self, name: str) -> Stub | None:
        """The same for whoever reads, as it was lately: the bytes are the same wherever they are by now."""
        with self._stubs_lock:
            found = self._stubs.get(name)
        if found is None and (found := self.stub(name)) is not None:
            with self._stubs_lock:
                self._stubs[name] = found
        return found

    def write_stub(self, name: str, stub: Stub) -> None:
        """Say where a segment is; then its bytes in the folder are not needed."""
        self.write_whole(_stub_name(name), msgspec.json.encode(stub))
        self._forget_stub(name)

    def drop_stub(self, name: str) -> None:
        """Say that a segment lies in the folder, or nowhere."""
        (self.folder / _stub_name(name)).unlink(missing_ok=True)
        self._forget_stub(name)

    def drop_bytes(self, name: str) -> None:
        """Remove a segment's bytes from the folder."""
        super().remove(name)

    def lies_here(self, name: str) -> bool:
        """Whether the segment's bytes lie in the folder."""
        return (self.folder / name).exists()

    def _forget_stub(self, name: str) -> None:
        with self._stubs_lock:
            self._stubs.pop(name, None)

    # --- the place ---------------------------------------------------------

    def names(self) -> list[str]:
        names = super().names()
        stubs = {name for name in names if name.endswith(STUB)}
        if not stubs:
            return names
        for stub in stubs - self._seen:
            super().forget(stub.removesuffix(STUB) + SEGMENT)  # a file that stays open takes room although it is gone
        self._seen = stubs
        return sorted({*(set(names) - stubs), *(name.removesuffix(STUB) + SEGMENT for name in stubs)})

    def own(self, name: str) -> Appender | None:
        appender = super().own(name)
        if appender is None and not self.lies_here(name) and self.stub(name) is not None:
            return _SentAway(name)
        return appender

    def size(self, name: str) -> int:
        for _ in range(_LOOKS):
            with contextlib.suppress(FileNotFoundError):
                return super().size(name)
            stub = self._known_stub(name)
            if stub is not None:
                return stub.size
        raise FileNotFoundError(name)

    def read(self, name: str, offset: int, length: int) -> bytes:
        for _ in range(_LOOKS):  # it may be moved between the two looks
            try:
                return super().read(name, offset, length)
            except FileNotFoundError:
                stub = self._known_stub(name)
            if stub is not None:
                with contextlib.suppress(FileNotFoundError):
                    return self._read_away(name, stub, offset, length)
                self._forget_stub(name)
        raise FileNotFoundError(name)

    def _read_away(self, name: str, stub: Stub, offset: int, length: int) -> bytes:
        away = away_at(stub.address)
        end = min(offset + length, stub.size)
        if end <= offset:
            return b""
        if end - offset >= _LONG_BYTES or isinstance(away, Folder):
            return _read(away, name, offset, end - offset)
        pieces = []
        for number in range(offset // BLOCK_BYTES, (end - 1) // BLOCK_BYTES + 1):
            start = number * BLOCK_BYTES
            wanted = min(BLOCK_BYTES, stub.size - start)
            block = self.fetched.block(name, number, functools.partial(_read, away, name, start, wanted))
            pieces.append(block[max(0, offset - start) : end - start])
        return b"".join(pieces)

    def remove(self, name: str) -> None:
        if not name.endswith(SEGMENT):
            super().remove(name)
            return
        stub = self.stub(name)
        self.drop_stub(name)
        super().remove(name)
        if stub is not None:
            self.fetched.forget(name)
            with contextlib.suppress(OutOfReachError):  # it goes with the next clearing (``moving``)
                remove_object(stub.address, name)

    def forget(self, name: str) -> None:
        super().forget(name)
        self._forget_stub(name)


def open_place(data: Path, most_bytes: int = _CACHE_BYTES) -> HomePlace:
    """The place of the segments of a data folder; ``most_bytes`` of what lies in a bucket are kept on this machine."""
    return HomePlace(data / "segments", data / "fetched", most_bytes)


class _SentAway(Appender):
    """A segment that lies elsewhere: nothing is added to it."""

    def __init__(self, name: str) -> None:
        self._name = name

    def append(self, data: bytes) -> None:
        raise StorageError(f"{self._name} lies elsewhere: nothing is added to it")

    def sync(self) -> None:
        """Nothing was added."""

    def truncate(self, size: int) -> None:
        """It was sent when it was whole: what is torn was torn since, and stays to be looked at."""

    def close(self) -> None:
        """Nothing is held."""


def _is_locked(descriptor: int) -> bool:
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    return True


def remove_object(address: str, name: str) -> None:
    """Remove a segment and its directory from where they were sent."""
    away_at(address).remove([name, directory_name(name)])


def _read(away: Away, name: str, offset: int, length: int) -> bytes:
    away.require_answering()
    return away.read(name, offset, length)


def _stub_name(segment: str) -> str:
    return segment.removesuffix(SEGMENT) + STUB


@functools.lru_cache(maxsize=16)
def away_at(address: str) -> Away:
    """What is reached at an address as it is written in stubs and homes."""
    parsed = parse_address(address)
    return Folder(parsed) if isinstance(parsed, FolderAddress) else Bucket(parsed)
