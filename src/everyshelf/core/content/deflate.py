"""Deflated data taken apart into what it says, and put together again bit for bit (RFC 1951).

A deflated stream is a row of *steps*: one byte, or a copy of 3 to 258 bytes from up to 32,768 bytes before. Huffman
codes pack them at no byte's border, so that one byte more in a text changes every byte behind it. Taken apart, an edit
changes the steps near it. Nothing is compressed again: codes and steps are those that were there, whatever program
chose them.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from everyshelf.core.errors import UnreadableError

LITERALS = 256  # steps below are bytes, those from here on copies of 3 bytes and more
SHORTEST, LONGEST = 3, 258
_STEPS = LITERALS + LONGEST - SHORTEST + 1
_END = 256
# Extra bits behind each code, and the first length or distance it stands for (3.2.5). The longest has its own code.
_LENGTH_BITS = [0] * 8 + [1] * 4 + [2] * 4 + [3] * 4 + [4] * 4 + [5] * 4 + [0]
_LENGTHS = [SHORTEST + sum(1 << bits for bits in _LENGTH_BITS[:number]) for number in range(28)] + [LONGEST]
_DISTANCE_BITS = [0, 0] + [number // 2 for number in range(28)]
_DISTANCES = [1 + sum(1 << bits for bits in _DISTANCE_BITS[:number]) for number in range(30)]
_ORDER = [16, 17, 18, 0, 8, 7, 9, 6, 10, 5, 11, 4, 12, 3, 13, 2, 14, 1, 15]  # of the lengths of codes of lengths
_FIXED = [8] * 144 + [9] * 112 + [7] * 24 + [8] * 8
_MOST_CODE_BITS = 15
_MOST_STEPS = 1 << 20  # of a block: most programs begin another one after 16 or 32 thousand

# The number of the code of each distance.
_CODE_OF_DISTANCE = np.zeros(32_769, np.uint8)
for _number, (_start, _bits) in enumerate(zip(_DISTANCES, _DISTANCE_BITS, strict=True)):
    _CODE_OF_DISTANCE[_start : _start + (1 << _bits)] = _number
_DISTANCE_STARTS = np.array(_DISTANCES, np.uint64)
_DISTANCE_EXTRA = np.array(_DISTANCE_BITS, np.uint64)


class NotDeflatedError(UnreadableError):
    """The bytes are not a deflated stream, or have a form that is not taken apart."""


@dataclass(frozen=True)
class Header:
    """How a block begins, bit for bit: whether it is the last, its form and its codes."""

    bits: int
    length: int

    @property
    def is_last(self) -> bool:
        """Whether no block follows."""
        return bool(self.bits & 1)

    @cached_property
    def codes(self) -> tuple[list[int], list[int]]:
        """The lengths of the codes of bytes and lengths, and of those of distances. Raises ``NotDeflatedError``."""
        return _codes_of(_Bits.of(self))[0]


@dataclass(frozen=True)
class Block:
    """A block: how it begins, and its steps with the distances of those that copy."""

    header: Header
    steps: NDArray[np.uint16]
    distances: NDArray[np.uint16]  # less one, so that the longest fits


@dataclass(frozen=True)
class Padding:
    """The bits behind the last block, up to the end of its byte."""

    bits: int
    length: int


class _Bits:
    """Bits of a stream, the lowest of each byte first; zeros behind its end."""

    def __init__(self, data: bytes | memoryview, at: int = 0) -> None:
        self._data = data
        self._next = at
        self.held = 0
        self.count = 0

    @classmethod
    def of(cls, header: Header) -> _Bits:
        """Those of a header."""
        return cls(header.bits.to_bytes(header.length // 8 + 1, "little"))

    @property
    def place(self) -> int:
        """How many bits of the data are behind."""
        return self._next * 8 - self.count

    def fill(self) -> None:
        """Hold at least 48 bits."""
        while self.count < 48:
            self.held |= int.from_bytes(self._data[self._next : self._next + 8], "little") << self.count
            self._next += 8
            self.count += 64

    def take(self, length: int) -> int:
        """The next bits, at most 48."""
        self.fill()
        found = self.held & ((1 << length) - 1)
        self.held >>= length
        self.count -= length
        return found

    def between(self, start: int, stop: int) -> int:
        """The bits of the data from place to place."""
        some = int.from_bytes(self._data[start // 8 : (stop + 7) // 8], "little")
        return (some >> (start % 8)) & ((1 << (stop - start)) - 1)


def read_stream(data: bytes | memoryview) -> Iterator[Block | Padding]:
    """The blocks of a deflated stream that ends with the data, then what fills its last byte. Raises
    ``NotDeflatedError`` for anything else, for blocks that are stored as they are, and for empty ones but the last."""
    bits, stop, is_last, is_first = _Bits(data), len(data) * 8, False, True
    while not is_last:
        start = bits.place
        codes, length = _codes_of(bits)
        header = Header(bits.between(start, start + length), length)
        is_last = header.is_last
        steps = _steps_of(bits, codes, stop)
        copies = steps >> 9
        block = Block(header, (steps & 511).astype(np.uint16), (copies[copies > 0] - 1).astype(np.uint16))
        if not len(steps) and not (is_last and not is_first):
            raise NotDeflatedError("a block is empty")
        is_first = False
        yield block
    left = stop - bits.place
    if not 0 <= left < 8:
        raise NotDeflatedError("it ends elsewhere")
    yield Padding(bits.take(left), left)


def _codes_of(bits: _Bits) -> tuple[tuple[list[int], list[int]], int]:
    """The lengths of the codes that a header says, and how many bits it took."""
    start = bits.place
    form = bits.take(3) >> 1
    if form == 1:
        return (_FIXED, [5] * 30), 3
    if form != 2:
        raise NotDeflatedError("a block is not packed")
    few, far, own = bits.take(5) + 257, bits.take(5) + 1, bits.take(4) + 4
    of_lengths = [0] * 19
    for place in _ORDER[:own]:
        of_lengths[place] = bits.take(3)
    width, table = _table(of_lengths)
    found: list[int] = []
    while len(found) < few + far:
        bits.fill()
        length, code = table[bits.held & ((1 << width) - 1)]
        if not length:
            raise NotDeflatedError("a code is not known")
        bits.take(length)
        if code < 16:
            found.append(code)
        elif code == 16:
            if not found:
                raise NotDeflatedError("a length repeats nothing")
            found += [found[-1]] * (3 + bits.take(2))
        else:
            found += [0] * (3 + bits.take(3) if code == 17 else 11 + bits.take(7))
    if len(found) != few + far or not found[_END]:
        raise NotDeflatedError("the codes are too many, or have no end")
    return (found[:few], found[few:]), bits.place - start


def _table(lengths: list[int]) -> tuple[int, list[tuple[int, int]]]:
    """By the next ``width`` bits: length and number of the code they begin with; 0 where none does."""
    width = max(lengths, default=0)
    table = [(0, 0)] * (1 << width)
    for number, code in enumerate(codes_by_length(lengths)):
        for place in range(code, 1 << width, 1 << lengths[number]) if lengths[number] else ():
            table[place] = (lengths[number], number)
    return width, table


def codes_by_length(lengths: list[int]) -> list[int]:
    """The code of each number, the first bit lowest (RFC 1951, 3.2.2). Raises ``NotDeflatedError`` where they do not
    fit."""
    counts = [0] * (_MOST_CODE_BITS + 2)
    for length in lengths:
        counts[length] += bool(length)
    codes, code = [0] * (_MOST_CODE_BITS + 2), 0
    for length in range(1, _MOST_CODE_BITS + 1):
        code = (code + counts[length - 1]) << 1
        codes[length] = code
        if code + counts[length] > 1 << length:
            raise NotDeflatedError("more codes than fit")
    found = []
    for length in lengths:
        found.append(int(f"{codes[length]:0{length}b}"[::-1], 2) if length else 0)
        codes[length] += 1
    return found


def _steps_of(bits: _Bits, codes: tuple[list[int], list[int]], stop: int) -> NDArray[np.uint32]:
    """The steps up to the end of the block: step, and distance above nine bits.

    The one loop of this module that goes over all data: it keeps all it needs in local names.
    """
    width, table = _table(codes[0])
    far_width, far_table = _table(codes[1])
    mask, far_mask = (1 << width) - 1, (1 << far_width) - 1
    data, at, held, count = bits._data, bits._next, bits.held, bits.count
    found: list[int] = []
    add = found.append
    while True:
        if count < 48:
            if at * 8 - count > stop or len(found) > _MOST_STEPS:
                raise NotDeflatedError("it breaks off, or a block has too many steps")
            held |= int.from_bytes(data[at : at + 8], "little") << count
            at += 8
            count += 64
        length, number = table[held & mask]
        held >>= length
        count -= length
        if number < _END:
            if not length:
                raise NotDeflatedError("a code is not known")
            add(number)
            continue
        if number == _END:
            break
        number -= _END + 1
        if number > 28:
            raise NotDeflatedError("a length is not known")
        extra = _LENGTH_BITS[number]
        step = LITERALS + _LENGTHS[number] - SHORTEST + (held & ((1 << extra) - 1))
        if step == _STEPS - 1 and extra:
            raise NotDeflatedError("the longest copy is said in another way")
        held >>= extra
        count -= extra
        length, number = far_table[held & far_mask]
        if not length or number > 29:
            raise NotDeflatedError("a distance is not known")
        held >>= length
        extra = _DISTANCE_BITS[number]
        distance = _DISTANCES[number] + (held & ((1 << extra) - 1))
        held >>= extra
        count -= length + extra
        add(step | distance << 9)
    bits._next, bits.held, bits.count = at, held, count
    if bits.place > stop:
        raise NotDeflatedError("it breaks off")
    return np.array(found, np.uint32)


# --- put together ----------------------------------------------------------------------


class Packing:
    """Codes of a block, as tables to look many steps up at once."""

    def __init__(self, header: Header) -> None:
        near, far = header.codes
        near_codes, far_codes = codes_by_length(near), codes_by_length(far)
        self.end = (near_codes[_END], near[_END])
        self._values, self._lengths = np.zeros(_STEPS, np.uint64), np.zeros(_STEPS, np.uint64)
        known = min(_END, len(near))
        self._values[:known], self._lengths[:known] = near_codes[:known], near[:known]
        for number in range(min(len(near) - _END - 1, 29)):
            code, length = near_codes[_END + 1 + number], near[_END + 1 + number]
            first = LITERALS + _LENGTHS[number] - SHORTEST
            many = min(1 << _LENGTH_BITS[number], _STEPS - first)
            self._values[first : first + many] = code | np.arange(many, dtype=np.uint64) << np.uint64(length)
            self._lengths[first : first + many] = length + _LENGTH_BITS[number] if length else 0
        self._far_values, self._far_lengths = np.zeros(30, np.uint64), np.zeros(30, np.uint64)
        self._far_values[: min(30, len(far))], self._far_lengths[: min(30, len(far))] = far_codes[:30], far[:30]

    def pack(
        self, steps: NDArray[np.uint16], distances: NDArray[np.uint16]
    ) -> tuple[NDArray[np.uint64], NDArray[np.uint64]]:
        """Bits of each step, and how many."""
        values, lengths = self._values[steps], self._lengths[steps]
        copies = steps >= LITERALS
        far = distances.astype(np.uint64) + np.uint64(1)
        code = _CODE_OF_DISTANCE[far]
        bits = self._far_values[code] | (far - _DISTANCE_STARTS[code]) << self._far_lengths[code]
        values[copies] |= bits << lengths[copies]
        lengths[copies] += self._far_lengths[code] + _DISTANCE_EXTRA[code]
        return values, lengths


def join_bits(values: NDArray[np.uint64], lengths: NDArray[np.uint64], offset: int) -> tuple[bytes, int]:
    """Values one behind the other, each of so many bits (1 to 64), the first at bit ``offset`` (0 to 7); and where
    they end."""
    if not len(values):
        return b"", offset
    ends = np.cumsum(lengths) + np.uint64(offset)
    starts = ends - lengths
    words, shifts = (starts >> np.uint64(6)).astype(np.int64), starts & np.uint64(63)
    stop = int(ends[-1])
    joined = np.zeros(stop // 64 + 2, np.uint64)
    first = np.flatnonzero(np.diff(words, prepend=-1))
    joined[words[first]] |= np.bitwise_or.reduceat(values << shifts, first)
    over = (values >> np.uint64(1)) >> (np.uint64(63) - shifts)
    joined[words[first] + 1] |= np.bitwise_or.reduceat(over, first)
    return joined.astype("<u8").tobytes()[: (stop + 7) // 8], stop
