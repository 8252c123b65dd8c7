"""Records: what a segment is made of.

A record is a fixed head and a payload::

    4 s  mark b"ESr2"      1 B  kind      1 B  codec      2 B  check of the head
    32 s id                4 B  stored length             4 B  raw length
    4 B  check of the payload

Lengths are little-endian and in bytes. Both checks are the first bytes of a BLAKE3 hash that begins with the segment's
name: a record that lies inside the payload of another one (someone versioned a segment) is therefore never taken for
a record of this segment. The head has a check of its own so that its length can be trusted where the payload is
damaged.
"""

from __future__ import annotations

import struct

import msgspec
from blake3 import blake3

_HEAD = struct.Struct("<4sBBH32sII")
_HEAD_CHECK = struct.Struct("<H")
_HEAD_CHECK_OFFSET = 6
CHECK_BYTES = 4
HEAD_BYTES = _HEAD.size + CHECK_BYTES
MARK = b"ESr2"

WHOLE, CHUNK, RECIPE = 1, 2, 3
OUTSIDE = 4  # the payload: a note that says where the bytes lie (``outside``)
UNPACKED = 5  # the payload: which parts make the content, some as what packed streams say (``unpacking``)
RAW, ZSTD, DELTA = 0, 1, 2  # a delta's payload: the id of its base (32 B), then what ``deltas`` makes of both
STEP_DELTA = 3  # as a delta, of parts of steps (``step_deltas``)
NUMBER_DELTA = 4  # as a delta, of pages of numbers (``number_deltas``)
DELTAS = frozenset({DELTA, STEP_DELTA, NUMBER_DELTA})
BASE_BYTES = 32


class Record(msgspec.Struct, frozen=True):
    """One stored piece: ``payload`` as it lies on disk, ``raw_bytes`` its length when unpacked."""

    id: bytes
    kind: int
    codec: int
    raw_bytes: int
    payload: bytes


class Location(msgspec.Struct, frozen=True):
    """Where a record lies, and what a caller may want to know before reading it."""

    segment: str
    offset: int
    kind: int
    raw_bytes: int
    delta: bool = False


class Damage(msgspec.Struct, frozen=True):
    """Bytes ``start`` to ``stop`` of a segment that are not a record although something was stored there."""

    segment: str
    start: int
    stop: int

    def __str__(self) -> str:
        return f"segment {self.segment}: bytes {self.start} to {self.stop} are damaged"


def check(length: int, *parts: bytes) -> bytes:
    """The first ``length`` bytes of the BLAKE3 hash of ``parts``."""
    # As a checksum BLAKE3 is several times faster than CRC-32 in the standard library, and catches more.
    return blake3(b"".join(parts)).digest(length)


def encode(record: Record, segment: str) -> bytes:
    """The record's bytes, head and payload, as they lie in ``segment``."""
    salt = segment.encode()
    bare = _HEAD.pack(MARK, record.kind, record.codec, 0, record.id, len(record.payload), record.raw_bytes)
    head = _with_check(bare, check(_HEAD_CHECK.size, salt, bare))
    return b"".join((head, check(CHECK_BYTES, salt, head, record.payload), record.payload))


def _with_check(bare: bytes, digest: bytes) -> bytes:
    return bare[:_HEAD_CHECK_OFFSET] + digest + bare[_HEAD_CHECK_OFFSET + _HEAD_CHECK.size :]


def stored_length(data: bytes | memoryview, segment: str) -> int | None:
    """The payload's length, if ``data`` begins with a head whose own check agrees."""
    if len(data) < HEAD_BYTES or data[:4] != MARK:
        return None
    head = bytes(data[: _HEAD.size])
    bare = _with_check(head, bytes(_HEAD_CHECK.size))
    if _with_check(bare, check(_HEAD_CHECK.size, segment.encode(), bare)) != head:
        return None
    stored: int = _HEAD.unpack(head)[5]
    return stored


def decode(data: bytes | memoryview, segment: str) -> tuple[Record, int] | None:
    """The record of ``segment`` at the start of ``data`` and its length, or None if it is incomplete or damaged."""
    if len(data) < HEAD_BYTES or data[:4] != MARK:
        return None
    head = bytes(data[: _HEAD.size])
    _, kind, codec, _, identity, stored, raw = _HEAD.unpack(head)
    end = HEAD_BYTES + stored
    if len(data) < end:
        return None
    payload = bytes(data[HEAD_BYTES:end])
    # This covers the head as well: its own check is for whoever looks for where a record begins.
    if check(CHECK_BYTES, segment.encode(), head, payload) != data[_HEAD.size : HEAD_BYTES]:
        return None
    return Record(identity, kind, codec, raw, payload), end
