"""A clone of a shelf in Git: which shelf it came from, and real bytes in place of its content notes."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from everyshelf.cli import terminal
from everyshelf.cli.session import open_shelf

if TYPE_CHECKING:
    from everyshelf.client import ShelfClient
    from everyshelf.desk.desk import Desk


@dataclass(frozen=True)
class Filled:
    """A file that was a content note."""

    path: str
    sha256: str
    size: int


def shelf_of_clone(
    folder: Path, shelf_key: str | None = None, address: str | None = None
) -> tuple[ShelfClient, Desk | None]:
    """The shelf that the clone's remote ``origin`` is, unless one is named; else as ``open_shelf``."""
    from everyshelf.gitside.filling import shelf_of
    from everyshelf.gitside.program import run_git

    if shelf_key is None:
        asked = ("-C", str(folder), "config", "--get", "remote.origin.url")
        remote = run_git(None, *asked, fine=(0, 1, 128)).decode().strip()
        if (found := shelf_of(remote)) is not None:
            address, shelf_key = address or found[0], found[1]
    return open_shelf(shelf_key, address)


def _is(file: Path, sha256: str) -> bool:
    with file.open("rb") as opened:
        return hashlib.file_digest(opened, "sha256").hexdigest() == sha256


def fill_notes(shelf: ShelfClient, folder: Path) -> Iterator[Filled]:
    """Put the real bytes in place of every content note below the folder."""
    from everyshelf.gitside.filling import find_notes

    with terminal.progress_bar("Filling") as progress:
        notes = list(find_notes(folder))
        for done, (file, note) in enumerate(notes):
            progress(done, len(notes), file.name)
            part = file.with_name(f".{file.name[:100]}.part")
            try:
                shelf.download_content(note.sha256, part)
                if not _is(part, note.sha256):
                    terminal.say(f"  ‖ {file.relative_to(folder)} stays a note: its bytes lie outside the shelf")
                    continue
                part.chmod(file.stat().st_mode & 0o777)
                part.replace(file)
            finally:
                part.unlink(missing_ok=True)
            yield Filled(file.relative_to(folder).as_posix(), note.sha256, note.size)
