"""What a pack would take to unpack, worked out from its bytes before Git sees it (``gitformat-pack``).

A pack of some kilobytes can stand for gigabytes: a delta copies from its base as often as it likes. Each object names
its size, and each delta the size of what it makes, so all of them are known without making any.
"""

from __future__ import annotations

from array import array
from bisect import bisect_left
from collections.abc import Callable
from dataclasses import dataclass
from typing import IO, Any

from isal import isal_zlib

from everyshelf.core.errors import InvalidError, LimitError

_KINDS = {1: "commit", 2: "tree", 3: "blob", 4: "tag"}
_OFFSET_DELTA, _REF_DELTA = 6, 7
_WINDOW = 1024 * 1024
_PIECE = 256 * 1024
_BETWEEN_TICKS = 2_000  # objects
_TRAILER = 20
_INFLATING: Any = isal_zlib.error
MIB = 1024 * 1024


@dataclass(frozen=True)
class PackLimits:
    """How much one push may bring. In bytes: ``commit`` (tags, too), ``tree``, ``blob``, ``delta`` (of what one delta
    makes, which Git holds in memory), ``unpacked`` (of all together). ``depth``: deltas upon deltas."""

    objects: int = 2_000_000
    commit: int = 4 * MIB
    tree: int = 16 * MIB
    blob: int = 20 * 1024 * MIB
    delta: int = 128 * MIB
    unpacked: int = 32 * 1024 * MIB
    depth: int = 4_096


class _Reader:
    """A pack from the front, inflated object by object."""

    def __init__(self, file: IO[bytes]) -> None:
        self._file = file
        self._window, self._at = b"", 0
        self.read = 0  # bytes of the pack up to here

    def take(self, size: int) -> bytes:
        """The next bytes; raises ``InvalidError`` at the end."""
        self._have(size)
        found = self._window[self._at : self._at + size]
        if len(found) != size:
            raise _damaged("it ends too soon")
        self._pass(size)
        return found

    def _have(self, size: int) -> None:
        if len(self._window) - self._at < size:
            self._window = self._window[self._at :] + self._file.read(max(_WINDOW, size))
            self._at = 0

    def _pass(self, size: int) -> None:
        self._at += size
        self.read += size

    def number(self, first: int, bits: int) -> int:
        """The rest of a number of seven bits a byte, the lowest first."""
        value, shift, byte = first & ((1 << bits) - 1), bits, first
        while byte & 0x80:
            byte = self.take(1)[0]
            value |= (byte & 0x7F) << shift
            shift += 7
            if shift > 70:
                raise _damaged("a size is too long")
        return value

    def offset(self) -> int:
        """How far back the base of a delta is."""
        byte = self.take(1)[0]
        value = byte & 0x7F
        while byte & 0x80:
            byte = self.take(1)[0]
            value = ((value + 1) << 7) | (byte & 0x7F)
            if value > 1 << 62:
                raise _damaged("an offset is too long")
        return value

    def inflate(self, size: int) -> bytes:
        """Pass over the deflated bytes of an object of ``size``; gives the first of what they say."""
        unpacker, head, made = isal_zlib.decompressobj(), b"", 0
        while not unpacker.eof:
            self._have(min(_PIECE, size + 64))
            piece = self._window[self._at : self._at + min(_PIECE, size - made + 64)]
            if not piece:
                raise _damaged("it ends too soon")
            try:
                data = unpacker.decompress(piece, _PIECE)
                while unpacker.unconsumed_tail and not unpacker.eof and made + len(data) <= size:
                    made += len(data)
                    head = head or data[:32]
                    data = unpacker.decompress(unpacker.unconsumed_tail, _PIECE)
            except _INFLATING as error:
                raise _damaged("an object cannot be inflated") from error
            made += len(data)
            head = head or data[:32]
            if made > size:
                raise _damaged("an object is larger than it says")
            self._pass(len(piece) - len(unpacker.unused_data))
        if made != size:
            raise _damaged("an object is smaller than it says")
        return head


def check_pack(file: IO[bytes], limits: PackLimits, tick: Callable[[], None]) -> int:
    """Read a pack up to its end, and give the number of its objects. Raises ``LimitError`` (git.size) where it would
    take more than it may and ``InvalidError`` (git.objects) where it is damaged. ``tick`` may raise to end it."""
    reader = _Reader(file)
    head = reader.take(12)
    if head[:4] != b"PACK" or int.from_bytes(head[4:8], "big") not in (2, 3):
        raise _damaged("it is not a pack")
    count = int.from_bytes(head[8:], "big")
    if count > limits.objects:
        raise _too_much(f"{count:,} objects", f"{limits.objects:,}", "Push it in parts: older commits first.")
    places, kinds, depths = array("Q"), array("B"), array("H")
    unpacked = 0
    for done in range(count):
        if done % _BETWEEN_TICKS == 0:
            tick()
        start = reader.read
        first = reader.take(1)[0]
        sort, size = (first >> 4) & 7, reader.number(first, 4)
        kind, depth = sort, 0
        if sort == _OFFSET_DELTA:
            base = bisect_left(places, start - reader.offset())
            if base >= len(places):
                raise _damaged("a delta has no base")
            kind, depth = kinds[base], depths[base] + 1
        elif sort == _REF_DELTA:
            reader.take(20)
            kind, depth = 0, 1
        elif sort not in _KINDS:
            raise _damaged("an object is of no kind")
        made = size
        _check_size(limits, kind, size, is_delta=sort != kind)
        inside = reader.inflate(size)
        if sort in (_OFFSET_DELTA, _REF_DELTA):
            made = _made_by(inside)
            _check_size(limits, kind, made, is_delta=True)
        unpacked += made
        if unpacked > limits.unpacked or depth > limits.depth:
            raise _too_much(
                "more than it may unpack to", f"{limits.unpacked // MIB:,} MB", "Push it in parts: older commits first."
            )
        places.append(start)
        kinds.append(kind)
        depths.append(depth)
    reader.take(_TRAILER)
    return count


def _made_by(delta: bytes) -> int:
    """The size of what a delta makes: the second number it begins with."""
    at, value = 0, 0
    for _ in range(2):
        value, shift, byte = 0, 0, 0x80
        while byte & 0x80:
            if at >= len(delta):
                raise _damaged("a delta says no size")
            byte = delta[at]
            value |= (byte & 0x7F) << shift
            shift, at = shift + 7, at + 1
    return value


def _check_size(limits: PackLimits, kind: int, size: int, *, is_delta: bool) -> None:
    most = {1: limits.commit, 2: limits.tree, 4: limits.commit}.get(kind, limits.blob)
    most = min(most, limits.delta) if is_delta else most
    if size > most:
        what = {1: "a commit", 2: "a folder", 4: "a tag"}.get(kind, "a file")
        how = " sent as a delta" if is_delta and kind in (0, 3) else ""
        hint = "Send large files whole: git -c core.bigFileThreshold=64m push" if how else "Shorten it, and push again."
        raise _too_much(f"{what} of {size:,} bytes{how}", f"{most:,}", hint)


def _too_much(what: str, most: str, hint: str) -> LimitError:
    return LimitError(f"the push has {what}, and this service takes {most}", code="git.size", hint=hint)


def _damaged(why: str) -> InvalidError:
    return InvalidError(f"the pack is damaged: {why}", code="git.objects", hint="Look at it with git fsck.")
