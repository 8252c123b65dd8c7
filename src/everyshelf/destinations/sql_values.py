"""The values of a database of types as JSON holds them, and back.

Numbers, truth, texts, bytes and JSON are told as such, moments as PostgreSQL writes them (ISO 8601, in UTC where they
know of zones). Values of any other type are told by the text the database gives for them and takes for them.
"""

from __future__ import annotations

import base64
import json
import re
import struct
import uuid
from collections.abc import Callable, Mapping
from datetime import UTC, date, datetime, time
from decimal import Decimal, InvalidOperation
from typing import Any

from everyshelf.core.databases.schema import Column
from everyshelf.core.databases.values import UnfitError

_WHOLE = {"SMALLINT": 15, "INTEGER": 31, "INT": 31, "BIGINT": 63}
_REALS = ("DOUBLE PRECISION", "FLOAT", "DOUBLE", "REAL")
_BYTES = ("BYTEA", "BLOB", "BINARY", "VARBINARY")
_TEXTS = ("TEXT", "VARCHAR", "")
# How the database tells a text as a value of a type; raises ``ValueError``.
Ask = Callable[[str, str], Any]
_NATIVE = {*_WHOLE, *_REALS, *_BYTES, *_TEXTS, "NUMERIC", "DECIMAL", "BOOLEAN", "JSON", "JSONB"}
# Values that sort in the database as they do here.
_ORDERED = {*_WHOLE, *_REALS, *_BYTES, "BOOLEAN"}


def _base(type_: str) -> str:
    return type_.upper().partition("(")[0].strip()


def comes_as_text(type_: str) -> str:
    """The type of texts as which values of a type are to be read; empty if they are read as they are."""
    element = type_.upper().removesuffix("[]")
    if type_.upper().endswith("[]"):
        return "" if _base(element) in _NATIVE - {"JSON", "JSONB", *_BYTES} else "TEXT[]"
    return "" if _base(element) in _NATIVE else "TEXT"


def sorts_alike(type_: str) -> bool:
    """Whether the database orders values of a type as we order what is told of them."""
    return _base(type_) in _ORDERED


def told(value: Any) -> Any:
    """A value as the driver gives it, as JSON can hold it."""
    if isinstance(value, bytes | memoryview):
        return {"base64": base64.b64encode(bytes(value)).decode()}
    if isinstance(value, float) and value in (float("inf"), float("-inf")):
        return {"real": str(value)}
    if value is None or isinstance(value, bool | int | float | str | Mapping):
        return value
    if isinstance(value, datetime):
        return _moment(value)
    if isinstance(value, date):
        return value.isoformat()
    if isinstance(value, time):
        return _without_zeros(value.isoformat())
    return [told(item) for item in value] if isinstance(value, list | tuple) else str(value)


def told_value(column: Column, value: Any, ask: Ask) -> Any:
    """A value of a file as a database of types would tell it, which is asked where only it knows; raises ``ValueError``
    for what it cannot hold."""
    if value is None:
        return None
    full = column.type.upper()
    if full.endswith("[]"):
        return _list(Column(column.name, column.type.removesuffix("[]")), value, ask)
    base = _base(full)
    if base in ("JSON", "JSONB"):
        return value
    if base in _BYTES:
        return _bytes(value)
    if base in _REALS:
        return _real(base, value)
    if isinstance(value, dict | list):
        raise UnfitError(f"it is not a value of {full or 'this column'}")
    if base in ("NUMERIC", "DECIMAL"):
        return _decimal(full, value)
    if base in _WHOLE:
        return _whole(base, value)
    if base in _TEXTS:
        return _text(full, str(value))
    known = _OTHERS[full](str(value)) if full in _OTHERS else None
    return ask(column.type, str(value)) if known is None else known


def _list(element: Column, value: Any, ask: Ask) -> Any:
    """An array; a list in a list is a further dimension of it."""
    if not isinstance(value, list):
        raise UnfitError(f"it is not a list of {element.type}")
    return [_list(element, i, ask) if isinstance(i, list) else told_value(element, i, ask) for i in value]


def bound(column: Column, value: Any) -> Any:
    """What is given to the driver for a told value; the statement says the type."""
    full = column.type.upper()
    if value is None:
        return None
    if full.endswith("[]"):
        return [_item(full, item) for item in value]
    if _base(full) in ("JSON", "JSONB"):
        return json.dumps(value)
    if isinstance(value, dict) and set(value) == {"base64"}:
        return base64.b64decode(value["base64"])
    if isinstance(value, dict) and set(value) == {"real"}:
        return value["real"]
    return value


def _item(full: str, value: Any) -> Any:
    if isinstance(value, list):
        return [_item(full, item) for item in value]
    # The items of a list are given as texts, lest they be of different types.
    return value if value is None or isinstance(value, str) else json.dumps(value)


def _whole(base: str, value: Any) -> int:
    number = int(value) if isinstance(value, float) else int(str(value))
    if number != value and str(number) != str(value):
        raise UnfitError("it is not a whole number")
    if not -(2 ** _WHOLE[base]) <= number < 2 ** _WHOLE[base]:
        raise UnfitError(f"it is too large for {base}")
    return number


def _real(base: str, value: Any) -> Any:
    real = float(value["real"]) if isinstance(value, dict) and set(value) == {"real"} else float(value)
    if base == "REAL" and float(f"{struct.unpack('f', struct.pack('f', real))[0]:.6g}") != real:
        raise UnfitError("REAL cannot store it exactly; declare the column DOUBLE PRECISION")
    return told(real)


def _bytes(value: Any) -> Any:
    if not isinstance(value, dict) or set(value) != {"base64"}:
        raise UnfitError('bytes are written {"base64": "…"}')
    return told(base64.b64decode(value["base64"], validate=True))


def _decimal(full: str, value: Any) -> str:
    try:
        number = Decimal(str(value))
        digits = full.partition("(")[2].rstrip(")").split(",")
        if len(digits) == 2 and number.is_finite():
            scaled = number.quantize(Decimal(1).scaleb(-int(digits[1])))
            if scaled != number:
                raise UnfitError(f"it has more digits than {full} keeps")
            number = scaled
    except InvalidOperation as error:
        raise UnfitError(f"it is not a number for {full}") from error
    return str(number)


def _text(full: str, value: str) -> str:
    most = re.search(r"\((\d+)\)", full)
    if most and len(value) > int(most[1]):
        raise UnfitError(f"it is longer than {full}")
    if "\0" in value:
        raise UnfitError("a text there holds no character of the number 0")
    return value


def _truth(text: str) -> bool:
    if text.lower() not in ("0", "1", "true", "false"):
        raise UnfitError("it is neither true nor false")
    return text.lower() in ("1", "true")


def _date(text: str) -> str | None:
    return date.fromisoformat(text).isoformat() if re.fullmatch(r"\d{4}-\d\d-\d\d", text) else None


def _read(text: str) -> datetime | None:
    try:
        return datetime.fromisoformat(text)
    except ValueError:
        return None


def _moment(value: datetime) -> str:
    zone = "+00" if value.tzinfo else ""
    naive = value.astimezone(UTC).replace(tzinfo=None) if value.tzinfo else value
    return _without_zeros(naive.isoformat(" ")) + zone


def _without_zeros(text: str) -> str:
    return text.rstrip("0") if "." in text else text


def _without_zone(text: str) -> str | None:
    found = _read(text)
    return _moment(found) if found is not None and found.tzinfo is None else None


def _with_zone(text: str) -> str | None:
    found = _read(text)
    return _moment(found if found.tzinfo else found.replace(tzinfo=UTC)) if found is not None else None


# None: the database has to be asked.
_OTHERS: dict[str, Callable[[str], Any]] = {
    "BOOLEAN": _truth,
    "DATE": _date,
    "TIMESTAMP": _without_zone,
    "DATETIME": _without_zone,
    "TIMESTAMP WITHOUT TIME ZONE": _without_zone,
    "TIMESTAMP WITH TIME ZONE": _with_zone,
    "UUID": lambda text: str(uuid.UUID(text)),
}
