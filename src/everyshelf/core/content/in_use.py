"""Bytes that nothing reaches are removed in two steps, so that none is ever taken from an upload on its way.

1. What is *condemned* is published: ids, and the segments in which they lie. Whoever begins to work after that stores
   such a piece again if it is needed, in another segment, instead of relying on the one that is there.
2. When all who began before have ended, what nothing reaches even then is removed from those segments.

Who began when is told by shared locks on one file per *round* of publishing; the kernel lets go of those of a process
that is killed.
"""

from __future__ import annotations

import contextlib
import threading
import uuid
from collections.abc import Callable, Iterator
from contextlib import ExitStack

import msgspec
import numpy as np
from blake3 import blake3
from numpy.typing import NDArray

from everyshelf.core.content.place import Place
from everyshelf.decoding import from_msgpack

_FILE, _ROUND = ".condemned", ".round-"
_CHECK_BYTES = 16
_ID_BYTES = 32


class _Published(msgspec.Struct):
    round: str
    segments: list[str] = []
    ids: bytes = b""


class Condemned:
    """What was published last: the name of its ``round``, the segments concerned, and ids in order. Where the list is
    damaged nothing is relied on until the next is published."""

    def __init__(self, published: _Published, *, is_damaged: bool = False) -> None:
        self.round = published.round
        self.segments = frozenset(published.segments)
        self.is_damaged = is_damaged
        self._bytes = published.ids
        self._prefixes: NDArray[np.uint64] = np.frombuffer(published.ids, ">u8")[:: _ID_BYTES // 8].astype(np.uint64)

    def __len__(self) -> int:
        return len(self._prefixes)

    def holds(self, segment: str, identity: bytes) -> bool:
        """Whether the record of that id in that segment must not be relied on; now and then of one that may be."""
        if segment not in self.segments:
            return self.is_damaged
        prefix = np.uint64(int.from_bytes(identity[:8], "big"))
        at = int(self._prefixes.searchsorted(prefix))
        return at < len(self._prefixes) and bool(self._prefixes[at] == prefix)

    def ids(self) -> list[bytes]:
        """All of them."""
        return [self._bytes[at : at + _ID_BYTES] for at in range(0, len(self._bytes), _ID_BYTES)]


def read_condemned(place: Place) -> Condemned:
    """What was published last; nothing if nothing ever was."""
    data = place.read_note(_FILE)
    if not data:
        return Condemned(_Published(""))
    try:
        if blake3(data[_CHECK_BYTES:]).digest(_CHECK_BYTES) == data[:_CHECK_BYTES]:
            return Condemned(from_msgpack(data[_CHECK_BYTES:], _Published))
    except msgspec.DecodeError:
        pass  # of another form
    return Condemned(_Published("damaged"), is_damaged=True)


def publish(place: Place, segments: list[str], ids: list[bytes]) -> Condemned:
    """Condemn these ids in these segments, in place of what was condemned before. The caller holds ``Place.alone``."""
    published = _Published(uuid.uuid4().hex, segments, b"".join(sorted(ids)))
    data = msgspec.msgpack.encode(published)
    with place.shared(f"{_ROUND}{published.round}"):
        pass  # its file is there before anybody needs it: on a full disk none can be made
    place.write_note(_FILE, blake3(data).digest(_CHECK_BYTES) + data)
    return Condemned(published)


def others_ended(place: Place, condemned: Condemned) -> bool:
    """Whether all who began before that was published have ended."""
    return place.are_unshared(_ROUND, but=f"{_ROUND}{condemned.round}")


class Users:
    """Those of this process who store bytes, or rely on some being there, until a record names them.

    ``refresh`` takes notice of segments that are gone: it is called whenever something was published, and so before a
    list that does not condemn what was removed is relied on.
    """

    def __init__(self, place: Place, refresh: Callable[[], None]) -> None:
        self._place = place
        self._refresh = refresh
        self._lock = threading.Lock()
        self._stamp: object = None
        self._condemned = Condemned(_Published(""))
        self._count: dict[str, int] = {}
        self._held: dict[str, ExitStack] = {}

    @property
    def condemned(self) -> Condemned:
        """What was condemned when the newest of them began."""
        return self._condemned

    @contextlib.contextmanager
    def one(self) -> Iterator[None]:
        """Be one of them for as long as the block lasts."""
        round_ = self._begin()
        try:
            yield
        finally:
            self._end(round_)

    def _begin(self) -> str:
        with self._lock:
            while True:
                round_ = self._look().round
                if round_ not in self._held:
                    stack = ExitStack()
                    stack.enter_context(self._place.shared(f"{_ROUND}{round_}"))
                    self._held[round_] = stack
                if self._look().round == round_:  # nothing was published before the lock was had
                    self._count[round_] = self._count.get(round_, 0) + 1
                    return round_
                self._let_go(round_)

    def _look(self) -> Condemned:
        stamp = self._place.note_stamp(_FILE)
        if stamp != self._stamp:
            condemned = read_condemned(self._place)
            self._refresh()
            self._condemned, self._stamp = condemned, stamp
        return self._condemned

    def _end(self, round_: str) -> None:
        with self._lock:
            self._count[round_] -= 1
            self._let_go(round_)

    def _let_go(self, round_: str) -> None:
        if not self._count.get(round_):
            self._count.pop(round_, None)
            self._held.pop(round_).close()
