"""Deltas: a piece of content said by another piece that is much like it.

A delta is a Zstandard frame (RFC 8878) with the base's bytes as raw dictionary, so that what both hold costs a
reference. A base is always stored whole, never as a delta: reading a delta reads one piece more, however many versions
there are.

Which piece is like which is told by *marks*: the smallest hashes of all 32-byte windows (min-hashing, Broder 1997).
An edit changes the few windows over it, so pieces that share most bytes share most marks, wherever they lie in their
contents; an inserted block moves everything behind it and changes no mark of it.
"""

from __future__ import annotations

from collections import Counter

import numpy as np
import zstandard
from numpy.typing import NDArray

from everyshelf.core.content.number_deltas import decode_number_delta, encode_number_delta
from everyshelf.core.content.records import BASE_BYTES, DELTA, NUMBER_DELTA, STEP_DELTA, Record
from everyshelf.core.content.step_deltas import decode_step_delta, encode_step_delta
from everyshelf.core.errors import BrokenError

_MARKS = 16
_COMMON = 8  # a mark of more pieces than this says nothing: licence texts, rows of zeros
# A higher level makes deltas a twentieth smaller and takes three times as long: worth it only where that is little.
QUICK, CAREFUL = 3, 13
_FACTOR = np.uint64(0x9E3779B97F4A7C15)  # 2**64 divided by the golden ratio (Knuth, TAOCP 3, 6.4)


def marks_of(data: bytes) -> NDArray[np.uint64]:
    """The smallest hashes of the 32-byte windows of a piece, at most sixteen."""
    count = len(data) - 31
    if count < 1:
        return np.zeros(0, np.uint64)
    octets = np.frombuffer(data, np.uint8)
    words = np.lib.stride_tricks.as_strided(octets, (len(data) - 7, 8), (1, 1))
    eights = np.ascontiguousarray(words).view(np.uint64).ravel()
    hashes = eights[:count] * _FACTOR
    for start in (8, 16, 24):
        hashes ^= hashes >> np.uint64(29)
        hashes += eights[start : start + count]
        hashes *= _FACTOR
    hashes ^= hashes >> np.uint64(32)
    few = hashes if count <= 4 * _MARKS else np.partition(hashes, 4 * _MARKS)[: 4 * _MARKS]
    return np.unique(few)[:_MARKS]


class Likeness:
    """Finds, of the pieces added, the one most like another."""

    def __init__(self) -> None:
        self._by_mark: dict[int, list[bytes]] = {}

    def add(self, piece: bytes, marks: NDArray[np.uint64]) -> None:
        """Let ``piece``, an id, be found by its marks."""
        for mark in marks.tolist():
            self._by_mark.setdefault(mark, []).append(piece)

    def most_like(self, data: bytes) -> bytes | None:
        """The piece that shares most marks with ``data``; None if none shares any that few others have."""
        shared: Counter[bytes] = Counter()
        for mark in marks_of(data).tolist():
            pieces = self._by_mark.get(mark, ())
            if len(pieces) <= _COMMON:
                shared.update(pieces)
        return shared.most_common(1)[0][0] if shared else None


def encode_delta(record: Record, data: bytes, base_id: bytes, base: bytes, level: int = QUICK) -> Record:
    """``record``, whose bytes are ``data``, as a delta against ``base``."""
    frame = zstandard.ZstdCompressor(level=level, dict_data=_dictionary(base), write_dict_id=False).compress(data)
    return Record(record.id, record.kind, DELTA, len(data), base_id + frame)


def encode_steps(record: Record, data: bytes, base_id: bytes, base: bytes, level: int = QUICK) -> Record:
    """As ``encode_delta``, where both are parts of steps."""
    return Record(record.id, record.kind, STEP_DELTA, len(data), base_id + encode_step_delta(data, base, level))


def encode_numbers(record: Record, data: bytes, base_id: bytes, base: bytes, level: int = QUICK) -> Record:
    """As ``encode_delta``, where both are pages of numbers."""
    return Record(record.id, record.kind, NUMBER_DELTA, len(data), base_id + encode_number_delta(data, base, level))


def base_of(record: Record) -> bytes:
    """The id of the piece that a delta needs."""
    return record.payload[:BASE_BYTES]


def decode_delta(record: Record, base: bytes) -> bytes:
    """The bytes of a delta; raises ``BrokenError`` if ``base`` is not what it was made against."""
    if record.codec == STEP_DELTA:
        return decode_step_delta(record.payload[BASE_BYTES:], base, record.raw_bytes)
    if record.codec == NUMBER_DELTA:
        return decode_number_delta(record.payload[BASE_BYTES:], base, record.raw_bytes)
    unpacker = zstandard.ZstdDecompressor(dict_data=_dictionary(base))
    try:
        return unpacker.decompress(record.payload[BASE_BYTES:], max_output_size=record.raw_bytes)
    except zstandard.ZstdError as error:
        raise BrokenError(f"a delta does not fit its base: {error}") from error


def _dictionary(base: bytes) -> zstandard.ZstdCompressionDict:
    return zstandard.ZstdCompressionDict(base, dict_type=zstandard.DICT_TYPE_RAWCONTENT)
