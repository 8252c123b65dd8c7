"""JSON in: bounded in depth, before anything works on it that calls itself for each level."""

from __future__ import annotations

import json
from typing import Any

from rest_framework.exceptions import ParseError
from rest_framework.parsers import JSONParser

MOST_LEVELS = 100


class BoundedJsonParser(JSONParser):
    """As the framework's, but nested at most 100 levels deep."""

    def parse(self, stream: Any, media_type: str | None = None, parser_context: Any = None) -> Any:
        """The value; raises ``ParseError`` for what is not JSON, or nested too deeply."""
        try:
            value = super().parse(stream, media_type, parser_context)
            _check_text(value)
        except RecursionError as error:
            raise _too_deep() from error
        level, depth = [value], 0
        while level:
            if depth > MOST_LEVELS:
                raise _too_deep()
            level = [inner for held in level for inner in _inside(held)]
            depth += 1
        return value


def _check_text(value: Any) -> None:
    """Raise ``ParseError`` for half a character (a lone surrogate, RFC 8259, 8.2): no text can be made of it."""
    try:
        json.dumps(value, ensure_ascii=False).encode()
    except UnicodeEncodeError as error:
        raise ParseError("The request holds half a character (a lone surrogate).") from error


def _inside(value: Any) -> list[Any]:
    """The lists and objects in a list or an object."""
    within = value.values() if isinstance(value, dict) else value if isinstance(value, list) else ()
    return [inner for inner in within if isinstance(inner, dict | list)]


def _too_deep() -> ParseError:
    return ParseError(f"The request is nested over {MOST_LEVELS} levels deep.")
