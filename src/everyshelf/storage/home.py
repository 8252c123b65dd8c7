"""The place of a store whose sealed segments may live in a bucket.

The folder stays what everything is agreed on in: processes append to segments in it (what was acknowledged is durable
there), and it holds the directories, the locks and the notes. A segment that was sent to a bucket and read back leaves
a *stub* in its place: a small file that says where its bytes are, how many, and their BLAKE3. A segment lies in the
folder, or has a stub, or for a moment both; never neither while anything needs it.

Where new segments go is the *home*: this folder, or a bucket. What lies elsewhere is moved by ``moving``.
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
from everyshelf.core.content.scanning import SEGMENT, directory_name
from everyshelf.core.errors import BrokenError, OutOfReachError, StorageError
from everyshelf.storage.addresses import BucketAddress, parse_bucket
from everyshelf.storage.bucket import Bucket
from everyshelf.storage.fetched import BLOCK_BYTES, Fetched

STUB = ".away"
OWNER = "everyshelf.json"
_HOME, _MOVING = ".home", ".moving"
_LOOKS = 3
_CACHE_BYTES = 4 * 1024**3
_LONG_BYTES = 2 * BLOCK_BYTES  # longer reads go past what is kept: they read a segment from end to end


class Home(msgspec.Struct, frozen=True):
    """Where sealed segments are to live: the address of a bucket, or empty for the folder. ``installation`` is the name
    under which a bucket knows this folder."""

    installation: str
    address: str = ""

    @property
    def bucket(self) -> BucketAddress | None:
        """The bucket, or None for the folder."""
        return parse_bucket(self.address) if self.address else None


class Stub(msgspec.Struct, frozen=True):
    """Where the bytes of a segment are instead."""

    address: str
    size: int
    blake3: str


class Owner(msgspec.Struct, frozen=True):
    """Whose segments lie below a prefix of a bucket."""

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
            return msgspec.json.decode(stored, type=Home)
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

    def claim(self, bucket: Bucket, installation: str, *, take_over: bool = False) -> str:
        """Give the name of the installation whose segments the bucket holds: this one's from now on, where it held none
        or its segments are to be taken over."""
        owner = self.owner(bucket)
        if owner and not take_over:
            return owner
        bucket.write(OWNER, msgspec.json.encode(Owner(installation)))
        return self.owner(bucket)

    @staticmethod
    def owner(bucket: Bucket) -> str:
        """The name of the installation whose segments a bucket holds; empty for none."""
        try:
            return msgspec.json.decode(bucket.read(OWNER, 0, 4096), type=Owner).installation
        except FileNotFoundError:
            return ""
        except msgspec.DecodeError as error:
            raise OutOfReachError(
                f"{OWNER} in {bucket.address.told}, which says whose segments lie there, is damaged",
                code="storage.owner",
                hint="Use another prefix.",
            ) from error

    # --- stubs -------------------------------------------------------------

    def stub(self, name: str) -> Stub | None:
        """Where a segment is that does not lie in the folder, as of now."""
        stored = self.read_note(_stub_name(name))
        if not stored:
            return None
        try:
            return msgspec.json.decode(stored, type=Stub)
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
            return _Away(name)
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
            with contextlib.suppress(FileNotFoundError):
                return super().read(name, offset, length)
            stub = self._known_stub(name)
            if stub is not None:
                with contextlib.suppress(FileNotFoundError):
                    return self._read_away(name, stub, offset, length)
                self._forget_stub(name)
        raise FileNotFoundError(name)

    def _read_away(self, name: str, stub: Stub, offset: int, length: int) -> bytes:
        bucket = bucket_at(stub.address)
        end = min(offset + length, stub.size)
        if end <= offset:
            return b""
        if end - offset >= _LONG_BYTES:
            return _read(bucket, name, offset, end - offset)
        pieces = []
        for number in range(offset // BLOCK_BYTES, (end - 1) // BLOCK_BYTES + 1):
            start = number * BLOCK_BYTES
            wanted = min(BLOCK_BYTES, stub.size - start)
            block = self.fetched.block(name, number, functools.partial(_read, bucket, name, start, wanted))
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


class _Away(Appender):
    """A segment in a bucket: nothing is added to it."""

    def __init__(self, name: str) -> None:
        self._name = name

    def append(self, data: bytes) -> None:
        raise StorageError(f"{self._name} lies in a bucket: nothing is added to it")

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
    """Remove a segment and its directory from a bucket."""
    bucket_at(address).remove([name, directory_name(name)])


def _read(bucket: Bucket, name: str, offset: int, length: int) -> bytes:
    bucket.require_answering()
    return bucket.read(name, offset, length)


def _stub_name(segment: str) -> str:
    return segment.removesuffix(SEGMENT) + STUB


@functools.lru_cache(maxsize=16)
def bucket_at(address: str) -> Bucket:
    """The bucket of an address as it is written in stubs and homes."""
    return Bucket(parse_bucket(address))
