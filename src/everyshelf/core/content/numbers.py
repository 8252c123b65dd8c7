"""Pages of numbers, each told as so many bits: what a column of a Parquet file has in place of its values.

A value that a dictionary gains or loses renumbers all that come after it, and shifts every bit of the page. Taken
apart, such a page is its numbers, and a version is told from the one before it by which number became which
(``number_deltas``)::

    1 B  how it is compressed     1 B  bits of a number     4 B  each: elements, levels, runs, numbers
    elements of the compressed stream (``snappy``), levels
    runs: 4 B each, as a page says them;  numbers: the lowest bytes, then the next ones

Numbers here are little-endian. A run is twice its length for a number that is repeated, and twice its groups of eight,
and one, for numbers in as many bits as each takes (``Encodings.md`` of Apache Parquet, "RLE/Bit-Packing Hybrid").
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from everyshelf.core.content.parquet_pages import SNAPPY, NumberPage
from everyshelf.core.content.snappy import NotSnappyError, join_stream, split_stream
from everyshelf.core.content.varints import NotVarintError, read_varint, write_varint
from everyshelf.core.errors import BrokenError, UnreadableError

_HEAD = struct.Struct("<BBIIII")
_MOST_RUNS, _MOST_NUMBERS = 100_000, 2_000_000
_BITS, _WIDEST = 32, 21  # of a number as it is held; of one that is taken apart, as dictionaries are not larger
_RUN = np.dtype("<u4")
_LENGTH_BYTES, _RUN_BYTES = 4, 5  # of levels; of a run at most


class NotNumbersError(UnreadableError):
    """These bytes are not a page of numbers, or one that is not taken apart."""


@dataclass(frozen=True)
class Numbers:
    """A page: how it is compressed and in what elements; its levels as they are; bits of a number; its runs; the
    numbers, those of a run that repeats one as often as it does."""

    codec: int
    elements: bytes
    levels: bytes
    width: int
    runs: NDArray[np.uint32]
    numbers: NDArray[np.uint32]

    def encoded(self) -> bytes:
        """Its bytes."""
        head = _HEAD.pack(
            self.codec, self.width, len(self.elements), len(self.levels), len(self.runs), len(self.numbers)
        )
        runs = self.runs.astype(_RUN).tobytes()
        return b"".join((head, self.elements, self.levels, runs, planes(self.numbers, bytes_of(self.width))))

    @classmethod
    def decoded(cls, data: bytes) -> Numbers:
        """From its bytes. Raises ``BrokenError``."""
        try:
            codec, width, elements, levels, runs, count = _HEAD.unpack_from(data)
            if count > _MOST_NUMBERS:
                raise ValueError("it has too many numbers")
            at = _HEAD.size
            said = np.frombuffer(data, _RUN, runs, at + elements + levels).astype(np.uint32)
            wide = bytes_of(width)
            numbers = from_planes(data, at + elements + levels + said.nbytes, count, wide)
        except (struct.error, ValueError) as error:
            raise BrokenError(f"a page of numbers cannot be read: {error}") from error
        return cls(codec, data[at : at + elements], data[at + elements :][:levels], width, said, numbers)

    def stream(self) -> bytes:
        """The page as it is in the file. Raises ``BrokenError``."""
        text = self.levels + bytes((self.width,)) + b"".join(self._packed())
        try:
            return join_stream(self.elements, text) if self.codec == SNAPPY else text
        except NotSnappyError as error:
            raise BrokenError(f"a page of numbers cannot be put together: {error}") from error

    def _packed(self) -> Iterator[bytes]:
        at, wide = 0, bytes_of(self.width)
        for run in self.runs.tolist():
            yield write_varint(run)
            if run & 1:
                many = run >> 1 << 3
                yield _in_bits(self.numbers[at : at + many], self.width)
            else:
                many = run >> 1
                yield int(self.numbers[at]).to_bytes(wide, "little") if many else b""
            at += many


def take_page_apart(data: bytes, page: NumberPage) -> Numbers:
    """The numbers of a page of the file ``data``. Raises ``NotNumbersError``."""
    stream = data[page.start : page.stop]
    try:
        elements, text = split_stream(stream) if page.codec == SNAPPY else (b"", stream)
    except NotSnappyError as error:
        raise NotNumbersError(str(error)) from error
    at = 0
    for _ in range(page.levels):
        at += _LENGTH_BYTES + int.from_bytes(text[at : at + _LENGTH_BYTES], "little")
    if at >= len(text) or text[at] > _WIDEST:
        raise NotNumbersError("it does not say how many bits a number has")
    width = text[at]
    runs, numbers = _runs_of(text, at + 1, width)
    found = Numbers(page.codec, elements, text[:at], width, np.array(runs, np.uint32), numbers)
    if found.stream() != stream:
        raise NotNumbersError("it is not written as it usually is")
    return found


def _runs_of(text: bytes, at: int, width: int) -> tuple[list[int], NDArray[np.uint32]]:
    runs: list[int] = []
    pieces: list[NDArray[np.uint32]] = [np.zeros(0, np.uint32)]
    count, wide = 0, bytes_of(width)
    while at < len(text):
        try:
            run, at = read_varint(text, at, _RUN_BYTES)
        except NotVarintError as error:
            raise NotNumbersError(str(error)) from error
        many = run >> 1 << 3 if run & 1 else run >> 1
        size = (run >> 1) * width if run & 1 else wide
        count += many
        if not many or run >> _BITS or at + size > len(text) or count > _MOST_NUMBERS or len(runs) == _MOST_RUNS:
            raise NotNumbersError("its runs do not fit")
        if run & 1:
            pieces.append(_from_bits(text[at : at + size], many, width))
        else:
            pieces.append(np.full(many, int.from_bytes(text[at : at + size], "little"), np.uint32))
        runs.append(run)
        at += size
    return runs, np.concatenate(pieces)


def _from_bits(data: bytes, many: int, width: int) -> NDArray[np.uint32]:
    if not width:
        return np.zeros(many, np.uint32)
    bits = np.unpackbits(np.frombuffer(data, np.uint8), bitorder="little").reshape(many, width)
    full = np.zeros((many, _BITS), np.uint8)
    full[:, :width] = bits
    return np.packbits(full, axis=1, bitorder="little").view("<u4").ravel().astype(np.uint32)


def _in_bits(numbers: NDArray[np.uint32], width: int) -> bytes:
    octets = np.ascontiguousarray(numbers, "<u4").view(np.uint8).reshape(len(numbers), 4)
    bits = np.unpackbits(octets, axis=1, bitorder="little")[:, :width]
    return np.packbits(bits.ravel(), bitorder="little").tobytes()


def bytes_of(width: int) -> int:
    """How many bytes a number of so many bits takes."""
    return (width + 7) // 8


def planes(numbers: NDArray[np.uint32], wide: int) -> bytes:
    """The lowest bytes of all, then the next ones: what is alike lies together."""
    octets = np.ascontiguousarray(numbers, "<u4").view(np.uint8).reshape(len(numbers), 4)
    return octets[:, :wide].T.tobytes()


def from_planes(data: bytes, at: int, count: int, wide: int) -> NDArray[np.uint32]:
    """The numbers that ``planes`` wrote. Raises ``ValueError``."""
    if wide > 4:
        raise ValueError("a number has more than 32 bits")
    given = np.frombuffer(data, np.uint8, count * wide, at).reshape(wide, count)
    octets = np.zeros((count, 4), np.uint8)
    octets[:, :wide] = given.T
    return octets.view("<u4").ravel().astype(np.uint32)
