"""JSON (RFC 8259) to a tree of dict, list, str, int, float, Decimal, bool and None.

Numbers keep their value: integers of any length, and decimals with more digits than a double holds as ``Decimal``.
NaN and Infinity are read, though the standard has none. A repeated key is refused with its name, because whichever
value were taken, the other would be lost in silence.
"""

from __future__ import annotations

import json
import re
from decimal import Decimal
from typing import Any

import orjson

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.text import decode

_DOUBLE_DIGITS = 15
_WORTH_AN_ARRAY = 1 << 16  # bytes
_LONG_NUMBER = re.compile(rb"[\d.]{16,}(?:[eE][-+]?\d+)?")
_LONG = b"0" * 16
_DIGITS_MARKED = bytes(48 if byte in b"0123456789." else 32 for byte in range(256))
_LONGEST_INTEGER = 18  # digits that fit into 64 bits whatever they are


def parse_json(data: bytes) -> Any:
    """The tree of ``data``; raises ``UnreadableError`` with the line where it stops being JSON."""
    found, tree = _fast(data)
    if found:
        return tree
    text = decode(data).text
    try:
        return json.loads(text, object_pairs_hook=_unrepeated, parse_float=_number, parse_int=_integer)
    except json.JSONDecodeError as error:
        raise UnreadableError(f"line {error.lineno}, column {error.colno}: {error.msg}") from error
    except RecursionError as error:
        raise UnreadableError("nested too deeply to be read as JSON") from error


def _fast(raw: bytes) -> tuple[bool, Any]:
    """The tree from the fast reader, where it is known to lose nothing: no key twice, no number out of its range."""
    try:
        tree = orjson.loads(raw)
        if has_repeated_keys(raw, orjson.dumps(tree)):
            return False, None
    except (ValueError, TypeError):
        return False, None
    return _numbers_are_exact(raw), tree


def as_json(tree: Any) -> bytes:
    """A tree written again, numbers with all their digits; raises ``UnreadableError`` for what JSON cannot hold."""
    try:
        return orjson.dumps(tree, default=lambda number: orjson.Fragment(str(number)))
    except TypeError as error:
        raise UnreadableError(str(error)) from error


def json_that_says(data: bytes, value: Any) -> Any:
    """As ``parse_json``, at less expense where ``data`` means ``value``: then that is what is returned."""
    try:
        tree = orjson.loads(data)
        written = orjson.dumps(tree)
        # Equal as Python holds them, and written alike: 1 is not True then, and no number was rounded.
        if tree == value and written == orjson.dumps(value) and not has_repeated_keys(data, written):
            return value
    except (ValueError, TypeError, RecursionError):
        pass
    return parse_json(data)


def has_repeated_keys(raw: bytes, written: bytes) -> bool:
    """True unless the tree of ``raw``, of which ``written`` is the compact form, surely holds each key there was.

    A repeated key leaves fewer colons. A colon spelled as an escape could hide that, so nothing is sure then.
    """
    return _colons(raw) != _colons(written) or b"\\u003" in raw


def _colons(data: bytes) -> int:
    if len(data) < _WORTH_AN_ARRAY:
        return data.count(b":")
    import numpy as np  # it takes longer to load than a small file to compare

    return int(np.count_nonzero(np.frombuffer(data, dtype=np.uint8) == ord(":")))  # bytes.count stops at each


def _numbers_are_exact(raw: bytes) -> bool:
    marked = raw.translate(_DIGITS_MARKED)
    at = marked.find(_LONG)
    while at >= 0:
        token = _LONG_NUMBER.match(raw, at)
        if token is None or not _is_exact(token[0]):
            return False
        at = marked.find(_LONG, token.end())
    return True


def _is_exact(token: bytes) -> bool:
    """True if a double or a 64-bit integer holds the number."""
    if token.isdigit():
        return len(token) <= _LONGEST_INTEGER
    text = token.decode("ascii")
    try:
        near = float(text)
        return repr(near) == text or Decimal(repr(near)) == Decimal(text)
    except (ValueError, ArithmeticError):
        return True  # digits and dots inside a text, such as an address or a version


def _unrepeated(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    result = dict(pairs)
    if len(result) < len(pairs):
        seen: set[str] = set()
        for key, _ in pairs:
            if key in seen:
                raise UnreadableError(f"the key “{key}” appears twice in one object")
            seen.add(key)
    return result


def _number(text: str) -> float | Decimal:
    return float(text) if len(text) <= _DOUBLE_DIGITS else _long_number(text)


def _long_number(text: str) -> float | Decimal:
    exact = Decimal(text)
    near = float(text)
    return near if Decimal(repr(near)) == exact else exact


def _integer(text: str) -> int:
    # Python guards int() against texts of over 4,300 digits, whose conversion takes quadratic time.
    if len(text) > 4000:
        raise UnreadableError(f"an integer of {len(text)} digits")
    return int(text)
