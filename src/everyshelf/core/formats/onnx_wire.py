"""An ONNX file parted into its structure and the bytes of its weights, without copying these.

Walks the fields of the protocol buffer (encoding as in Google's "Protocol Buffers Encoding"; field numbers as in the
format's own description): model 7 is the graph, graph 5 an initialiser, initialiser 9 its bytes. What is left, a few
kilobytes, goes to the format's own library.
"""

from __future__ import annotations

from collections.abc import Iterator

_GRAPH, _INITIALIZER, _RAW_DATA = 7, 5, 9
_BYTES, _NUMBER, _EIGHT, _FOUR = 2, 0, 1, 5


class _OddError(Exception):
    """Not as a writer of such files would encode it."""


def without_weights(data: bytes) -> tuple[bytes, list[memoryview | None]] | None:
    """The file without the bytes of its initialisers, and these in order; None where that cannot be told."""
    view = memoryview(data)
    try:
        graphs = [(at, end) for number, _, at, end in _fields(view, 0, len(view)) if number == _GRAPH]
        if len(graphs) != 1:
            return None
        slim, weights = _slim_graph(view, *graphs[0])
        out = [
            bytes(view[start:end]) if number != _GRAPH else _tagged(_GRAPH, slim)
            for number, start, _, end in _fields(view, 0, len(view))
        ]
    except _OddError:
        return None
    return b"".join(out), weights


def _slim_graph(view: memoryview, at: int, end: int) -> tuple[bytes, list[memoryview | None]]:
    out: list[bytes] = []
    weights: list[memoryview | None] = []
    for number, start, inside, stop in _fields(view, at, end):
        if number != _INITIALIZER:
            out.append(bytes(view[start:stop]))
            continue
        held: memoryview | None = None
        kept: list[bytes] = []
        for own, own_start, own_inside, own_stop in _fields(view, inside, stop):
            if own == _RAW_DATA:
                held = view[own_inside:own_stop]
            else:
                kept.append(bytes(view[own_start:own_stop]))
        out.append(_tagged(_INITIALIZER, b"".join(kept)))
        weights.append(held)
    return b"".join(out), weights


def _fields(view: memoryview, at: int, end: int) -> Iterator[tuple[int, int, int, int]]:
    """Number, where the field begins, where its content begins, and where it ends."""
    while at < end:
        start = at
        tag, at = _varint(view, at, end)
        sort, inside = tag & 7, at
        if sort == _BYTES:
            length, inside = _varint(view, at, end)
            at = inside + length
        elif sort == _NUMBER:
            _, at = _varint(view, at, end)
        elif sort in (_EIGHT, _FOUR):
            at += 8 if sort == _EIGHT else 4
        else:
            raise _OddError
        if at > end:
            raise _OddError
        yield tag >> 3, start, inside, at


def _varint(view: memoryview, at: int, end: int) -> tuple[int, int]:
    value = shift = 0
    while at < end and shift < 70:
        byte = view[at]
        value |= (byte & 0x7F) << shift
        at += 1
        if byte < 0x80:
            return value, at
        shift += 7
    raise _OddError


def _tagged(number: int, content: bytes) -> bytes:
    return _encoded(number << 3 | _BYTES) + _encoded(len(content)) + content


def _encoded(value: int) -> bytes:
    out = bytearray()
    while value > 0x7F:
        out.append(value & 0x7F | 0x80)
        value >>= 7
    out.append(value)
    return bytes(out)
