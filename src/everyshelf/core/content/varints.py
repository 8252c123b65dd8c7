"""Whole numbers in as few bytes as they need: seven bits a byte, the lowest first, the eighth says that more follow.

Source: LEB128, unsigned (DWARF 4, 7.6), which Thrift, Parquet, Snappy and Git's deltas use.
"""

from __future__ import annotations

from everyshelf.core.errors import UnreadableError


class NotVarintError(UnreadableError):
    """These bytes are not such a number, or it is too long."""


def write_varint(number: int) -> bytes:
    """The bytes of a number from 0 on."""
    found = bytearray()
    while number > 0x7F:
        found.append((number & 0x7F) | 0x80)
        number >>= 7
    found.append(number)
    return bytes(found)


def read_varint(data: bytes, at: int, most: int = 10) -> tuple[int, int]:
    """The number that begins at ``at``, of ``most`` bytes at most, and where it ends. Raises ``NotVarintError``."""
    found = 0
    for place, byte in enumerate(data[at : at + most]):
        found |= (byte & 0x7F) << (7 * place)
        if not byte & 0x80:
            return found, at + place + 1
    raise NotVarintError("a number does not end")
