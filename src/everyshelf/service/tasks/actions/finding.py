"""Finding the ids of tasks in texts.

Patterns are those of people, and texts those of anybody: they are matched by an engine whose time grows with the length
of the text only (RE2), never by one that can be kept busy.
"""

from __future__ import annotations

from collections.abc import Iterator

import re2

from everyshelf.core.errors import InvalidError

_MOST_LETTERS = 100
_MOST_IN_A_TEXT = 50


class TaskPattern:
    """What an id looks like; an empty pattern finds nothing."""

    def __init__(self, pattern: str) -> None:
        options = re2.Options()
        options.log_errors = False
        options.max_mem = 1 << 20
        try:
            self._pattern = re2.compile(pattern, options) if pattern else None
        except re2.error as error:
            why = error.args[0].decode("utf-8", "replace") if isinstance(error.args[0], bytes) else str(error)
            raise InvalidError(
                f"{pattern[:60]!r} is not a pattern: {why}",
                code="task.pattern",
                pointer="/pattern",
                hint="Write it as a regular expression, say SK-[0-9]+.",
            ) from error
        if self._pattern is not None and self._pattern.match(""):
            raise InvalidError(
                f"{pattern[:60]!r} finds the empty text, too",
                code="task.pattern",
                pointer="/pattern",
                hint="Say what every id has, as in SK-[0-9]+.",
            )

    def find(self, text: str) -> Iterator[str]:
        """Each id in a text once, in order. One that goes on in letters or digits on either side is none."""
        if self._pattern is None:
            return
        found: dict[str, None] = {}
        for match in self._pattern.finditer(text):
            start, end = match.span()
            task = match.group(0)
            whole = not (task[:1].isalnum() and text[start - 1 : start].isalnum()) and not (
                task[-1:].isalnum() and text[end : end + 1].isalnum()
            )
            if whole and task and len(task) <= _MOST_LETTERS and len(found) < _MOST_IN_A_TEXT:
                found[task] = None
        yield from found
