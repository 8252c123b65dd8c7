"""Streams compressed by Snappy, taken apart into what they say and which bytes they say as they are.

Source: ``format_description.txt`` of Snappy. A stream is its elements: bytes as they are, and copies of what came
before. With the elements kept as they were, the same text gives the same stream, whatever compressor made it.
"""

from __future__ import annotations

from everyshelf.core.content.varints import NotVarintError, read_varint
from everyshelf.core.errors import UnreadableError

_LITERAL, _COPY_1, _COPY_2 = 0, 1, 2
_LONG_FROM = 60  # a length of 60 to 63 says in how many bytes the length follows
_MOST_ELEMENTS = 100_000
_MOST_BYTES, _SIZE_BYTES = 16 * 1024 * 1024, 5  # of the text; in which its size is said


class NotSnappyError(UnreadableError):
    """These bytes are not such a stream, or it has too many elements."""


def split_stream(stream: bytes) -> tuple[bytes, bytes]:
    """The stream without the bytes that it says as they are, and its text. Raises ``NotSnappyError``."""
    size, at = _size_of(stream)
    elements, text = bytearray(stream[:at]), bytearray()
    for _ in range(_MOST_ELEMENTS):
        if at >= len(stream):
            break
        length, back, head = _element(stream, at)
        elements += stream[at : at + head]
        at += head
        if back:
            _copy(text, back, length)
        else:
            text += stream[at : at + length]
            at += length
        if len(text) > size:
            raise NotSnappyError("it holds more than it says")
    if at != len(stream) or len(text) != size:
        raise NotSnappyError("it ends too early, or has too many elements")
    return bytes(elements), bytes(text)


def join_stream(elements: bytes, text: bytes) -> bytes:
    """The stream that ``split_stream`` took apart. Raises ``NotSnappyError``."""
    _, at = _size_of(elements)
    stream, done = bytearray(elements[:at]), 0
    while at < len(elements):
        length, back, head = _element(elements, at)
        stream += elements[at : at + head]
        at += head
        if not back:
            stream += text[done : done + length]
        done += length
    return bytes(stream)


def _size_of(stream: bytes) -> tuple[int, int]:
    """How long the text is, and where the elements begin."""
    try:
        size, at = read_varint(stream, 0, _SIZE_BYTES)
    except NotVarintError as error:
        raise NotSnappyError(str(error)) from error
    if size > _MOST_BYTES:
        raise NotSnappyError("it says more than is taken apart")
    return size, at


def _element(stream: bytes, at: int) -> tuple[int, int, int]:
    """How many bytes an element gives, how far back it copies them from (0: they follow), how long its head is."""
    tag = stream[at]
    kind, more = tag & 3, tag >> 2
    if kind == _LITERAL:
        wide = max(0, more - _LONG_FROM + 1)
        head = stream[at + 1 : at + 1 + wide]
        length = (int.from_bytes(head, "little") if wide else more) + 1
    elif kind == _COPY_1:
        wide, length = 1, (more & 7) + 4
        head = stream[at + 1 : at + 2]
        back = (more >> 3 << 8) | int.from_bytes(head, "little")
    else:
        wide, length = (2 if kind == _COPY_2 else 4), more + 1
        head = stream[at + 1 : at + 1 + wide]
        back = int.from_bytes(head, "little")
    if len(head) != wide or (kind != _LITERAL and not back):
        raise NotSnappyError("an element is damaged")
    return length, (0 if kind == _LITERAL else back), 1 + wide


def _copy(text: bytearray, back: int, length: int) -> None:
    """Repeat what lies ``back`` bytes before the end; it may run into itself."""
    start = len(text) - back
    if start < 0:
        raise NotSnappyError("it copies from before its beginning")
    piece = text[start : start + length]
    while len(piece) < length:
        piece += piece[: length - len(piece)]
    text += piece
