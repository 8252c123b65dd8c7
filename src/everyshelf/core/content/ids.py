"""Content ids: the SHA-256 (FIPS 180-4) of the whole bytes, in lower-case hex."""

from __future__ import annotations

import hashlib
import re
from pathlib import Path

_PATTERN = re.compile(r"[0-9a-f]{64}\Z")


def content_id(data: bytes) -> str:
    """Return the id of ``data``: 64 hex digits."""
    return hashlib.sha256(data).hexdigest()


def file_content_id(path: Path) -> str:
    """Return the id of a file's bytes, read in pieces; raises ``OSError`` as ``open`` does."""
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def is_content_id(text: object) -> bool:
    """True if ``text`` is written like a content id; says nothing about whether it is stored."""
    return isinstance(text, str) and _PATTERN.match(text) is not None
