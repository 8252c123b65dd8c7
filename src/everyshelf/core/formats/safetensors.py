"""Safetensors (format description of the library ``safetensors`` 0.8): a JSON header, then the bytes.

The header is checked before anything is believed: bounds within the file, lengths that fit shape and type, no overlap.
"""

from __future__ import annotations

import struct
from typing import Any

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.json import parse_json
from everyshelf.core.formats.tensors import Tensor

_LENGTH = struct.Struct("<Q")
_MOST_HEADER = 100_000_000
_TYPES = {
    "F64": ("<f8", 64),
    "F32": ("<f4", 32),
    "F16": ("<f2", 16),
    "BF16": ("bf16", 16),
    "I64": ("<i8", 64),
    "I32": ("<i4", 32),
    "I16": ("<i2", 16),
    "I8": ("|i1", 8),
    "U64": ("<u8", 64),
    "U32": ("<u4", 32),
    "U16": ("<u2", 16),
    "U8": ("|u1", 8),
    "BOOL": ("|b1", 8),
    "F8_E4M3": ("f8_e4m3", 8),
    "F8_E5M2": ("f8_e5m2", 8),
    "C64": ("<c8", 64),
}


def parse_safetensors(data: bytes) -> tuple[dict[str, Tensor], dict[str, str]]:
    """Tensors by name and the metadata; raises ``UnreadableError`` where the header does not tell the truth."""
    if len(data) < _LENGTH.size:
        raise UnreadableError("the header is missing")
    (length,) = _LENGTH.unpack_from(data)
    start = _LENGTH.size + length
    if length > _MOST_HEADER or start > len(data):
        raise UnreadableError(f"the header claims {length:,} bytes, the file has {len(data):,}")
    header = parse_json(data[_LENGTH.size : start])
    if not isinstance(header, dict):
        raise UnreadableError("the header is not an object")
    body = memoryview(data)[start:]
    said = header.pop("__metadata__", {})
    tensors = {name: _tensor(name, entry, body) for name, entry in header.items()}
    _apart(header)
    return tensors, {str(k): str(v) for k, v in said.items()} if isinstance(said, dict) else {}


def _tensor(name: str, entry: Any, body: memoryview) -> Tensor:
    try:
        kind, shape, (begin, end) = entry["dtype"], tuple(entry["shape"]), entry["data_offsets"]
        plain = all(type(n) is int and n >= 0 for n in (*shape, begin, end))
    except (TypeError, KeyError, ValueError) as error:
        raise UnreadableError(f"{name[:80]}: the header does not say its type, shape and place") from error
    if not plain or not begin <= end <= len(body):
        raise UnreadableError(f"{name[:80]}: it claims to lie outside of the file")
    dtype, bits = _TYPES.get(kind, (str(kind), 0))
    tensor = Tensor(name, shape, dtype, lambda: body[begin:end])
    if bits and tensor.size * bits != (end - begin) * 8:
        raise UnreadableError(f"{name[:80]}: {tensor.size:,} values of {kind} do not make {end - begin:,} bytes")
    return tensor


def _apart(header: dict[str, Any]) -> None:
    at, before = 0, ""
    for begin, end, name in sorted((*e["data_offsets"], n) for n, e in header.items()):
        if begin < at:
            raise UnreadableError(f"{name[:80]} and {before[:80]} claim the same bytes")
        at, before = max(at, end), name
