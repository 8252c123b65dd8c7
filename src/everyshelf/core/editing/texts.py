"""A whole text written anew by an editor that knows one kind of line end: lines that stayed keep theirs."""

from __future__ import annotations

import re

from everyshelf.core.compare.sequence import align
from everyshelf.core.formats.text import decode, encoded_like

_LINE = re.compile(r"([^\r\n]*)(\r\n|\r|\n|\Z)")


def set_text(data: bytes, text: str) -> bytes:
    """``text`` in the encoding of ``data``, with its byte-order mark and, line by line, its line ends.

    Raises ``UnreadableError`` if ``data`` is no text.
    """
    decoded = decode(data)
    old = [(m[1], m[2]) for m in _LINE.finditer(decoded.text)]
    new = re.split(r"\r\n|\r|\n", text)
    # The last entry of each is what follows the last line end, and has none.
    kept = {j: old[i][1] for i, j in align([line for line, _ in old], new) if old[i][1]}
    usual = decoded.newline
    ends = [kept.get(j, usual) if j < len(new) - 1 else "" for j in range(len(new))]
    return encoded_like("".join(line + end for line, end in zip(new, ends, strict=True)), decoded)
