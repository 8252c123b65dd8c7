"""The values of cells as JSON holds them and gives them back: what JSON has no form for is told by an object.

``{"base64": …}`` bytes, ``{"text": …}`` a text that is no UTF-8, ``{"real": "inf"}`` what is no number in JSON.
"""

from __future__ import annotations

import base64
from typing import Any

from everyshelf.core.errors import InvalidError

_FORMS = ("base64", "text", "real")


class UnfitError(InvalidError, ValueError):
    """What a column cannot hold; said without the value, which may be a secret."""


def told(value: Any) -> Any:
    """A value of SQLite's (None, int, float, str, bytes) as JSON can hold it."""
    if isinstance(value, bytes):
        return {"base64": base64.b64encode(value).decode()}
    if isinstance(value, str) and any("\udc80" <= c <= "\udcff" for c in value):
        return {"text": base64.b64encode(value.encode("utf-8", "surrogateescape")).decode()}
    if isinstance(value, float) and value in (float("inf"), float("-inf")):
        return {"real": str(value)}
    return value


def meant(value: Any) -> Any:
    """The value a told one stands for; raises ``ValueError`` for what stands for none."""
    if not isinstance(value, dict):
        if isinstance(value, list | bool):
            raise UnfitError("it is not a value of a cell")
        return value
    (form, text), *more = value.items() or [("", None)]
    if more or form not in _FORMS or not isinstance(text, str):
        raise UnfitError("it is not a value of a cell")
    if form == "real":
        return float(text)
    held = base64.b64decode(text, validate=True)
    return held if form == "base64" else held.decode("utf-8", "surrogateescape")
