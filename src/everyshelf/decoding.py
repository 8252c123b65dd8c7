"""Typed decoding that threads may begin together.

msgspec looks at a type when it is first asked for it, notes what it finds with the class before that is complete, and
lets other threads run in between: a second thread that decodes into the same class then reads what is not there yet,
and its process ends with a segmentation fault (msgspec 0.22, ``StructInfo_Convert``). Here each type is looked at by
one thread at a time, once; ``tests.core.test_decoding`` keeps all other modules from asking msgspec themselves.
"""

from __future__ import annotations

import threading
from typing import Any, TypeVar, overload

import msgspec

_T = TypeVar("_T")
_lock = threading.Lock()
_json: dict[Any, msgspec.json.Decoder[Any]] = {}
_msgpack: dict[Any, msgspec.msgpack.Decoder[Any]] = {}


def json_decoder(wanted: Any) -> msgspec.json.Decoder[Any]:
    """The decoder of JSON for a type; made once."""
    known = _json.get(wanted)
    if known is None:
        with _lock:
            known = _json[wanted] = _json.get(wanted) or msgspec.json.Decoder(wanted)
    return known


@overload
def from_json(data: bytes | str, wanted: type[_T]) -> _T: ...
@overload
def from_json(data: bytes | str, wanted: Any) -> Any: ...
def from_json(data: bytes | str, wanted: Any) -> Any:
    """The value of a JSON text; raises ``msgspec.DecodeError`` or its ``ValidationError``."""
    return json_decoder(wanted).decode(data)


@overload
def from_msgpack(data: bytes, wanted: type[_T]) -> _T: ...
@overload
def from_msgpack(data: bytes, wanted: Any) -> Any: ...
def from_msgpack(data: bytes, wanted: Any) -> Any:
    """The value of MessagePack bytes; raises ``msgspec.DecodeError`` or its ``ValidationError``."""
    known = _msgpack.get(wanted)
    if known is None:
        with _lock:
            known = _msgpack[wanted] = _msgpack.get(wanted) or msgspec.msgpack.Decoder(wanted)
    return known.decode(data)


@overload
def converted(value: Any, wanted: type[_T], *, strict: bool = True) -> _T: ...
@overload
def converted(value: Any, wanted: Any, *, strict: bool = True) -> Any: ...
def converted(value: Any, wanted: Any, *, strict: bool = True) -> Any:
    """A value of plain types as the type that is wanted; raises ``msgspec.ValidationError``. ``strict``: a text is not
    taken for a number."""
    json_decoder(wanted)  # the type is known to msgspec from here on
    return msgspec.convert(value, wanted, strict=strict)
