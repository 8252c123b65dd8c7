"""Bytes of Git as text that JSON can hold, and back without loss."""

from __future__ import annotations

import re

_ESCAPED = re.compile("%|[\ud800-\udfff]")
_CODE = re.compile(r"%([0-9A-F]{2})")


def as_text(raw: bytes) -> str:
    """``raw`` read as UTF-8; each byte that is not, and each percent sign, is written as ``%XX`` (RFC 3986, 2.1)."""
    return _ESCAPED.sub(lambda m: f"%{ord(m[0]) & 0xFF:02X}", raw.decode("utf-8", "surrogateescape"))


def as_raw(text: str) -> bytes:
    """The bytes that ``as_text`` made ``text`` of."""
    pieces = _CODE.split(text)
    found = [piece.encode() if at % 2 == 0 else bytes([int(piece, 16)]) for at, piece in enumerate(pieces)]
    return b"".join(found)
