"""Contents with packed parts, kept as what these say: zip archives (workbooks, documents, arrays), gzip files, Parquet.

Such a content is cut into *parts*: bytes as they are, steps of deflated streams (``deflate``), and pages of numbers
(``numbers``). Each has all that is needed to pack it again, so that any range of the content is read from the parts
that make it. A part of steps is::

    4 B  steps      4 B  copies      2 B  borders of blocks      2 B  bytes of the header it begins within
    header: 2 B bits, bits;  borders: 4 B step, 1 B (0: a block ends, 1: one begins with the header that follows)
    steps: the low bytes, then the high ones;  distances: the low bytes, then the high ones

Numbers are little-endian. Where parts begin depends on the steps near by only, so that what was inserted moves no other
border (as in ``cutter``).
"""

from __future__ import annotations

import io
import struct
import zipfile
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass

import msgspec
import numpy as np
from numpy.typing import NDArray

from everyshelf.core.content.cutter import cut_window
from everyshelf.core.content.deflate import (
    LITERALS,
    Block,
    Header,
    NotDeflatedError,
    Packing,
    Padding,
    join_bits,
    read_stream,
)
from everyshelf.core.content.numbers import NotNumbersError, Numbers, take_page_apart
from everyshelf.core.content.parquet_pages import MARK as PARQUET
from everyshelf.core.content.parquet_pages import NumberPage, number_pages
from everyshelf.core.errors import BrokenError
from everyshelf.decoding import from_json

AS_IT_IS, STEPS, NUMBERS = 0, 1, 2
_FEWEST, _MOST = 8_192, 65_535  # steps of a part
_FACTOR = np.uint64(0x9E3779B97F4A7C15)  # 2**64 divided by the golden ratio (Knuth, TAOCP 3, 6.4)
_BORDER_BITS = np.uint64(64 - 14)
_MOST_BLOCKS = 8_192  # of a content: most programs make one of 16,000 steps and more
_SMALLEST, _SMALLEST_PAGE = 4_096, 512  # a shorter stream, or page, is not worth it
_HEAD = struct.Struct("<IIHH")
_BITS = struct.Struct("<H")
_BORDER = struct.Struct("<IB")
_FORM, _FORM_WITH_NUMBERS = "deflate-1", "numbers-1"
_ENTRY = struct.Struct("<B32sIQ")
_ZIP_HEAD = struct.Struct("<26xHH")
_GZIP = b"\x1f\x8b\x08"


@dataclass(frozen=True)
class Part:
    """A part of a content: its kind, its bytes, and how many bits of the content it makes."""

    kind: int
    data: bytes
    bits: int


def is_packed(head: bytes) -> bool:
    """Whether a content that begins so may have packed parts."""
    return head.startswith((b"PK\x03\x04", _GZIP, PARQUET))


@dataclass
class _Budget:
    """How many more blocks of a content are taken apart: each has tables of its own, and tiny ones would take hours."""

    blocks: int = _MOST_BLOCKS

    def spend(self) -> None:
        """Count a block. Raises ``NotDeflatedError``."""
        if not self.blocks:
            raise NotDeflatedError("it has too many blocks")
        self.blocks -= 1


def take_apart(data: bytes) -> list[Part] | None:
    """The parts of a content; None where none of its streams can be taken apart, or not back together as they were."""
    parts: list[Part] = []
    at = 0
    for start, stop, some in _numbers_in(data) if data.startswith(PARQUET) else _steps_in(data):
        if start >= at and b"".join(put_together(some)) == data[start:stop]:
            parts += _as_it_is(data[at:start])
            parts += some
            at = stop
    return [*parts, *_as_it_is(data[at:])] if parts else None


def _steps_in(data: bytes) -> Iterator[tuple[int, int, list[Part]]]:
    """Where streams lie that can be taken apart, and their parts."""
    budget, at = _Budget(), 0
    for start, stop in _streams_in(data):
        if start < at or not budget.blocks:
            continue
        try:
            some = list(_parts_of(memoryview(data)[start:stop], budget))
        except NotDeflatedError:
            continue
        yield start, stop, some
        at = stop


def _numbers_in(data: bytes) -> Iterator[tuple[int, int, list[Part]]]:
    """As ``_steps_in``, of pages of numbers."""
    at = 0
    for page in sorted(number_pages(data), key=_start_of):
        if page.start < at or page.stop - page.start < _SMALLEST_PAGE:
            continue
        try:
            numbers = take_page_apart(data, page)
        except NotNumbersError:
            continue
        yield page.start, page.stop, [Part(NUMBERS, numbers.encoded(), 8 * (page.stop - page.start))]
        at = page.stop


def _start_of(page: NumberPage) -> int:
    return page.start


def _as_it_is(data: bytes) -> Iterator[Part]:
    at = 0
    for length in cut_window(memoryview(data), final=True) if data else ():
        yield Part(AS_IT_IS, data[at : at + length], 8 * length)
        at += length


def _streams_in(data: bytes) -> list[tuple[int, int]]:
    """Where deflated streams lie, in order of where they begin."""
    found = _of_gzip(data) if data.startswith(_GZIP) else _of_zip(data)
    return sorted(one for one in found if one[1] - one[0] >= _SMALLEST)


def _of_zip(data: bytes) -> list[tuple[int, int]]:
    found = []
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            for member in archive.infolist():
                if member.compress_type == zipfile.ZIP_DEFLATED and not member.flag_bits & 1:
                    name, extra = _ZIP_HEAD.unpack_from(data, member.header_offset)
                    start = member.header_offset + _ZIP_HEAD.size + name + extra
                    found.append((start, start + member.compress_size))
    except (zipfile.BadZipFile, struct.error, ValueError, ArithmeticError, OSError, EOFError, RuntimeError):
        return []
    return [(start, stop) for start, stop in found if stop <= len(data)]


def _of_gzip(data: bytes) -> list[tuple[int, int]]:
    """The one stream of a file with one member (RFC 1952)."""
    flags, at = data[3], 10
    if flags & 4:
        at += 2 + int.from_bytes(data[at : at + 2], "little")
    for flag in (8, 16):  # a name, a comment
        if flags & flag:
            at = data.find(b"\0", at) + 1
    at += 2 * bool(flags & 2)
    return [(at, len(data) - 8)]


# --- parts of steps --------------------------------------------------------------------


@dataclass(frozen=True)
class Steps:
    """A part of steps: those steps, the distances of copies less one, where blocks end (None) or begin, and the block
    that it begins within."""

    steps: NDArray[np.uint16]
    distances: NDArray[np.uint16]
    borders: list[tuple[int, Header | Padding | None]]
    within: Header | None

    def encoded(self) -> bytes:
        """Its bytes."""
        within = _encoded(self.within) if self.within is not None else b""
        borders = b"".join(
            _BORDER.pack(place, 0)
            if header is None
            else _BORDER.pack(place, 2 if isinstance(header, Padding) else 1) + _encoded(header)
            for place, header in self.borders
        )
        steps, distances = self.steps, self.distances
        return b"".join(
            (
                _HEAD.pack(len(steps), len(distances), len(self.borders), len(within)),
                within,
                borders,
                (steps & 0xFF).astype(np.uint8).tobytes(),
                (steps >> 8).astype(np.uint8).tobytes(),
                (distances & 0xFF).astype(np.uint8).tobytes(),
                (distances >> 8).astype(np.uint8).tobytes(),
            )
        )

    @classmethod
    def decoded(cls, data: bytes) -> Steps:
        """From its bytes. Raises ``BrokenError``."""
        try:
            count, copies, many, length = _HEAD.unpack_from(data)
            at = _HEAD.size
            within = _decoded(data, at)[0] if length else None
            at += length
            borders: list[tuple[int, Header | Padding | None]] = []
            for _ in range(many):
                place, kind = _BORDER.unpack_from(data, at)
                at += _BORDER.size
                header: Header | Padding | None = None
                if kind:
                    header, at = _decoded(data, at)
                    header = Padding(header.bits, header.length) if kind == 2 else header
                borders.append((place, header))
            low = np.frombuffer(data, np.uint8, count, at).astype(np.uint16)
            at += count
            ninth = np.frombuffer(data, np.uint8, count, at)
            at += count
            near = np.frombuffer(data, np.uint8, copies, at).astype(np.uint16)
            far = np.frombuffer(data, np.uint8, copies, at + copies).astype(np.uint16)
        except (ValueError, struct.error) as error:
            raise BrokenError(f"a part of steps cannot be read: {error}") from error
        eight = np.uint16(8)
        return cls(low | (ninth.astype(np.uint16) << eight), near | (far << eight), borders, within)

    def packed(self, offset: int) -> tuple[bytes, int]:
        """The bits it makes, the first at bit ``offset`` of a byte; and where they end."""
        row = _Row()
        before = np.concatenate([[0], np.cumsum(self.steps >= LITERALS)])
        packing = Packing(self.within) if self.within is not None else None
        at = 0
        for place, border in [*self.borders, (len(self.steps), Padding(0, 0))]:
            if place > at:
                if packing is None:
                    raise BrokenError("steps stand before any block")
                row.add(*packing.pack(self.steps[at:place], self.distances[before[at] : before[place]]))
                at = place
            if border is not None:
                row.add_bits(border.bits, border.length)
                packing = Packing(border) if isinstance(border, Header) else packing
            elif packing is not None:
                row.add_bits(*packing.end)
        return join_bits(np.concatenate(row.values), np.concatenate(row.lengths), offset)


class _Row:
    """Bits one behind the other."""

    def __init__(self) -> None:
        self.values: list[NDArray[np.uint64]] = []
        self.lengths: list[NDArray[np.uint64]] = []

    def add(self, values: NDArray[np.uint64], lengths: NDArray[np.uint64]) -> None:
        self.values.append(values)
        self.lengths.append(lengths)

    def add_bits(self, bits: int, length: int) -> None:
        """Any number of bits, a word at a time."""
        for at in range(0, length, 64):
            some = min(64, length - at)
            self.add(np.array([(bits >> at) & ((1 << some) - 1)], np.uint64), np.array([some], np.uint64))


def _parts_of(stream: memoryview, budget: _Budget) -> Iterator[Part]:
    """The parts of a deflated stream. Raises ``NotDeflatedError``."""
    borders: list[tuple[int, Header | Padding | None]] = []
    blocks: list[Block] = []
    count = 0
    for one in read_stream(stream):
        if isinstance(one, Padding):
            borders += [(count, one)] if one.length else []
            continue
        budget.spend()
        borders.append((count, one.header))
        count += len(one.steps)
        borders.append((count, None))
        blocks.append(one)
    steps = np.concatenate([block.steps for block in blocks])
    distances = np.concatenate([block.distances for block in blocks])
    copies = np.concatenate([[0], np.cumsum(steps >= LITERALS)])
    at = taken = 0
    header: Header | None = None
    for stop in _stops_of(steps):
        first, is_last = taken, stop == count
        while taken < len(borders) and (
            is_last or borders[taken][0] < stop or (borders[taken][0] == stop and borders[taken][1] is None)
        ):
            taken += 1
        own = borders[first:taken]
        within = None if own and own[0] == (at, own[0][1]) and isinstance(own[0][1], Header) else header
        part = Steps(
            steps[at:stop], distances[copies[at] : copies[stop]], [(place - at, one) for place, one in own], within
        )
        yield Part(STEPS, part.encoded(), part.packed(0)[1])
        header = next((one for _, one in reversed(own) if isinstance(one, Header)), header)
        at = stop


def _stops_of(steps: NDArray[np.uint16]) -> Iterator[int]:
    """Where parts end."""
    wide = steps.astype(np.uint64)
    mixed = wide[:-3] | wide[1:-2] << np.uint64(9) | wide[2:-1] << np.uint64(18) | wide[3:] << np.uint64(27)
    at = 0
    for stop in (np.flatnonzero((mixed * _FACTOR) >> _BORDER_BITS == 0) + 4).tolist():
        while stop - at > _MOST:
            at += _MOST
            yield at
        if stop - at >= _FEWEST:
            at = stop
            yield at
    while len(steps) - at > _MOST:
        at += _MOST
        yield at
    if at < len(steps) or not len(steps):
        yield len(steps)


def put_together(parts: Iterable[Part], offset: int = 0) -> Iterator[bytes]:
    """The bytes of the parts, one piece for each; the first part begins at bit ``offset`` of a byte. What a last part
    leaves of its byte is not given."""
    held = b"\0" if offset else b""  # the bits of the byte that is not full yet
    for part in parts:
        if part.kind == STEPS:
            data, stop = Steps.decoded(part.data).packed(offset)
        else:
            data = part.data if part.kind == AS_IT_IS else Numbers.decoded(part.data).stream()
            stop = 8 * len(data)
        if offset:
            data = bytes((data[0] | held[0],)) + data[1:]
        offset = stop % 8
        held = data[-1:] if offset else b""
        yield data[:-1] if offset else data


@dataclass(frozen=True)
class Layout:
    """Which parts make a content: kind, id, length and bits of each."""

    size: int
    entries: list[tuple[int, bytes, int, int]]

    def encoded(self) -> bytes:
        """Its bytes."""
        has_numbers = any(kind == NUMBERS for kind, _, _, _ in self.entries)
        head = msgspec.json.encode(_LayoutHead(_FORM_WITH_NUMBERS if has_numbers else _FORM, self.size))
        return head + b"\n" + b"".join(_ENTRY.pack(*entry) for entry in self.entries)

    @classmethod
    def decoded(cls, data: bytes) -> Layout:
        """From its bytes. Raises ``BrokenError``."""
        head, _, body = data.partition(b"\n")
        try:
            said = from_json(head, _LayoutHead)
            if said.form not in (_FORM, _FORM_WITH_NUMBERS):
                raise BrokenError(f"a content is kept in a form that is not known here: {said.form[:40]}")
            return cls(said.size, list(_ENTRY.iter_unpack(body)))
        except (msgspec.MsgspecError, struct.error) as error:
            raise BrokenError(f"what parts a content has cannot be read: {error}") from error

    def range(self, start: int, stop: int, read: Callable[[bytes], bytes]) -> Iterator[bytes]:
        """Bytes ``start`` to ``stop`` of the content, in pieces; ``read`` gives a part by its id."""
        if start >= stop:
            return
        ends = np.cumsum([bits for _, _, _, bits in self.entries])
        first, last = int(np.searchsorted(ends, 8 * start, "right")), int(np.searchsorted(ends, 8 * stop, "left"))
        if first and ends[first - 1] % 8:  # it begins within a byte, which the part before fills
            first -= 1
            while first and self.entries[first][3] < 8:
                first -= 1
        begin = int(ends[first - 1]) if first else 0
        parts = (Part(kind, read(identity), bits) for kind, identity, _, bits in self.entries[first : last + 1])
        at = begin // 8
        for piece in put_together(parts, begin % 8):
            wanted = piece[max(0, start - at) : max(0, stop - at)]
            at += len(piece)
            if wanted:
                yield wanted


class _LayoutHead(msgspec.Struct):
    form: str
    size: int


def _encoded(header: Header | Padding) -> bytes:
    return _BITS.pack(header.length) + header.bits.to_bytes((header.length + 7) // 8, "little")


def _decoded(data: bytes, at: int) -> tuple[Header, int]:
    (length,) = _BITS.unpack_from(data, at)
    at += _BITS.size
    stop = at + (length + 7) // 8
    return Header(int.from_bytes(data[at:stop], "little"), length), stop
