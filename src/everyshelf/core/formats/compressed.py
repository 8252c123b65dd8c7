"""Files that come compressed with gzip (RFC 1952): the same artifact under another name."""

from __future__ import annotations

import zlib
from pathlib import PurePosixPath

from everyshelf.core.errors import UnreadableError

_MARK = b"\x1f\x8b"
_MOST_BYTES = 256 * 1024 * 1024
_MOST_TIMES = 200  # a table shrinks to a tenth, a text to a fifth; what grows two hundredfold wants to do harm
_FREE_BYTES = 16 * 1024 * 1024


def is_compressed(data: bytes) -> bool:
    """True for what starts as a gzip member does."""
    return data.startswith(_MARK)


def decompressed(data: bytes) -> bytes:
    """What all members hold together; raises ``UnreadableError`` if it is damaged or grows beyond measure."""
    most = min(_MOST_BYTES, max(_FREE_BYTES, _MOST_TIMES * len(data)))
    pieces: list[bytes] = []
    total = 0
    while data:
        member = zlib.decompressobj(31)
        try:
            piece = member.decompress(data, most - total + 1)
        except zlib.error as error:
            raise UnreadableError(f"damaged gzip data: {error}") from error
        total += len(piece)
        if total > most:
            raise UnreadableError(f"it grows to over {most >> 20} MB when decompressed")
        if not member.eof:
            raise UnreadableError("the gzip data ends too early")
        pieces.append(piece)
        data = member.unused_data.lstrip(b"\0")
    return b"".join(pieces)


def bare_name(name: str) -> str:
    """The name without ``.gz``."""
    path = PurePosixPath(name)
    return str(path.with_suffix("")) if path.suffix.lower() in (".gz", ".gzip") else name
