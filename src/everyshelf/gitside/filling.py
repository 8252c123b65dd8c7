"""Content notes in a working folder of Git, and the bytes put in their place."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

from everyshelf.gitside.notes import MOST_BYTES, ContentNote, read_content_note


def find_notes(folder: Path) -> Iterator[tuple[Path, ContentNote]]:
    """Every file below ``folder`` that is a content note; links are not followed, and Git's own folder is left out."""
    for here, below, names in os.walk(folder):
        below[:] = sorted(name for name in below if name != ".git")
        for name in sorted(names):
            file = Path(here, name)
            if file.is_symlink() or not file.is_file() or file.stat().st_size > MOST_BYTES:
                continue
            note = read_content_note(file.read_bytes())
            if note is not None:
                yield file, note


def shelf_of(address: str) -> tuple[str, str] | None:
    """The service and the key of the shelf that a repository's address leads to; None for any other repository."""
    service, found, rest = address.partition("/git/")
    key = rest.removesuffix("/").removesuffix(".git")
    if not found or not key or "/" in key or not service.startswith(("http://", "https://")):
        return None
    scheme, _, host = service.partition("://")
    return f"{scheme}://{host.rpartition('@')[2]}", key
