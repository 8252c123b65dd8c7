"""A tree as its difference to the tree that it was made of.

Source: "Deltified representation" in Git's own ``gitformat-pack``: both sizes, then instructions that copy a stretch
of the older bytes or insert new ones. Most of a tree are the ids of what did not change, which no compressor makes
smaller.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from everyshelf.core.content.varints import write_varint
from everyshelf.core.history.raw_rows import shared_bytes

MOST_STEPS = 50  # from one tree to the next, as many as the program itself makes: each is read to read the last
_NEAR = 8  # bytes between two differences that are cheaper inserted than copied
_MOST_INSERTED = 127
_MOST_COPIED = 0xFFFFFF


def delta(before: bytes, after: bytes) -> bytes:
    """The instructions that make ``after`` of ``before``."""
    said = bytearray(write_varint(len(before)) + write_varint(len(after)))
    at = 0  # in ``before``: everything up to here is said
    for start, end, new in _apart(before, after):
        said += _copied(at, start)
        for first in range(0, len(new), _MOST_INSERTED):
            piece = new[first : first + _MOST_INSERTED]
            said.append(len(piece))
            said += piece
        at = end
    return bytes(said + _copied(at, len(before)))


def _apart(before: bytes, after: bytes) -> Iterator[tuple[int, int, bytes]]:
    """Where ``before`` differs, from and to, and what ``after`` has there."""
    if len(before) != len(after):  # a name came or went
        head = shared_bytes(before, after)
        tail = min(shared_bytes(before, after, from_end=True), min(len(before), len(after)) - head)
        yield head, len(before) - tail, after[head : len(after) - tail]
        return
    differ = np.frombuffer(before, np.uint8) != np.frombuffer(after, np.uint8)
    places = differ.nonzero()[0].tolist()
    if not places:
        return
    start = last = places[0]
    for place in places:
        if place - last > _NEAR:
            yield start, last + 1, after[start : last + 1]
            start = place
        last = place
    yield start, last + 1, after[start : last + 1]


def _copied(start: int, end: int) -> bytes:
    """Instructions that copy a stretch: which bytes of offset and length follow, then those that are not zero."""
    found = bytearray()
    while start < end:
        length = min(end - start, _MOST_COPIED)
        told, given = 0x80, bytearray()
        for place, byte in enumerate(start.to_bytes(4, "little") + length.to_bytes(3, "little")):
            if byte:
                told |= 1 << place
                given.append(byte)
        found.append(told)
        found += given
        start += length
    return bytes(found)
