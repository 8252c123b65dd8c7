"""Texts that no reader takes apart: what their lines name, all of it a guess."""

from __future__ import annotations

from everyshelf.core.answers.uses import NO_REFERENCES, FileReferences
from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.text import decode
from everyshelf.core.outline.model import Part
from everyshelf.core.uses.reading import references_in

_LONGEST_LABEL = 100
_LONGEST_LINE = 20_000


def references_in_lines(data: bytes, kind: str) -> FileReferences:
    """What the lines of a text name."""
    try:
        lines = decode(data).lines()
    except UnreadableError:
        return NO_REFERENCES
    parts = [
        Part("line", line.strip()[:_LONGEST_LABEL], str(number), line, {"text": line[:_LONGEST_LINE]})
        for number, line in enumerate(lines, 1)
        if line.strip()
    ]
    return references_in(Part("text", "text", "", "", expand=lambda: parts), kind)
