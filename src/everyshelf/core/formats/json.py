"""JSON (RFC 8259) to a tree of dict, list, str, int, float, Decimal, bool and None.

Numbers keep their value: integers of any length, and decimals with more digits than a double holds as ``Decimal``.
NaN and Infinity are read, though the standard has none. A repeated key is refused with its name, because whichever
value were taken, the other would be lost in silence.
"""

from __future__ import annotations

import json
from decimal import Decimal
from typing import Any

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.text import decode

_DOUBLE_DIGITS = 15


def parse_json(data: bytes) -> Any:
    """The tree of ``data``; raises ``UnreadableError`` with the line where it stops being JSON."""
    text = decode(data).text
    try:
        return json.loads(text, object_pairs_hook=_unrepeated, parse_float=_number, parse_int=_integer)
    except json.JSONDecodeError as error:
        raise UnreadableError(f"line {error.lineno}, column {error.colno}: {error.msg}") from error
    except RecursionError as error:
        raise UnreadableError("nested too deeply to be read as JSON") from error


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
