"""One content to look at: its outline, or the beginning of its text."""

from __future__ import annotations

from typing import Any

from everyshelf.core.answers.outlines import OutlineAnswer
from everyshelf.core.errors import InvalidError
from everyshelf.core.formats.text import decode
from everyshelf.core.history.trees import Entry
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.reading.messages import FileAt
from everyshelf.service.base.context import get_store, reader
from everyshelf.service.shelves.actions.contents import as_given

READ_LIMIT_BYTES = 200 * 1024 * 1024  # of an outline


def outline_of(path: str, entry: Entry, rules: Rules) -> OutlineAnswer:
    """The outline of one content under its name."""
    if entry.size > READ_LIMIT_BYTES:
        return OutlineAnswer(
            kind="opaque",
            format="",
            read_as="bytes",
            note="too large to be outlined",
            size=entry.size,
            parts=[],
            truncated=False,
        )
    with as_given(entry) as file, reader() as worker:
        return worker.outline(FileAt(path, str(file)), rules=rules.source)


def text_of(entry: Entry, encoding: str | None, *, limit: int = 2 * 1024 * 1024) -> dict[str, Any]:
    """The beginning of a content as text, in a found or chosen encoding; raises ``UnreadableError`` for bytes."""
    if entry.type == "whole":
        raise InvalidError(
            f"{entry.name} is a folder kept whole, and no text",
            code="artifact.whole",
            hint="Download it, or see its outline.",
        )
    data = b"".join(get_store().iter_range(entry.id, 0, limit))
    if len(data) < entry.size and (end := data.rfind(b"\n")) > 0:
        data = data[: end + 1]
    decoded = decode(data, encoding)
    return {
        "text": decoded.text,
        "encoding": decoded.encoding,
        "newline": decoded.newline,
        "truncated": len(data) < entry.size,
        "size": entry.size,
    }
