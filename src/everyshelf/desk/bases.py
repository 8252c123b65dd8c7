"""The contents a desk came from, kept on it: so that comparing, merging and discarding need no service.

They lie in ``.everyshelf/contents``, in the form in which the service stores them: equal pieces once, compressed,
checked when they are read. Losing them loses nothing; they are fetched again when they are needed.
"""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

from everyshelf.core.errors import EveryShelfError
from everyshelf.desk.store import FOLDER

if TYPE_CHECKING:
    from everyshelf.core.content.store import ContentStore

_FOLDER = "contents"
MOST_BYTES = 64 * 1024 * 1024  # of one content; larger ones are asked of the service
_PIECE_BYTES = 1024 * 1024
_SPARE_BYTES = 256 * 1024 * 1024


class Bases:
    """The kept contents of the desk at ``root``; a context, because it owns a file while it writes."""

    def __init__(self, root: Path) -> None:
        self._folder = root / FOLDER / _FOLDER
        self._store: ContentStore | None = None

    def __enter__(self) -> Bases:
        return self

    def __exit__(self, *_: object) -> None:
        if self._store is not None:
            self._store.close()
            self._store = None

    def _open(self) -> ContentStore:
        if self._store is None:
            from everyshelf.core.content.store import ContentStore

            self._store = ContentStore(self._folder)
        return self._store

    def keep(self, files: Iterable[Path]) -> None:
        """Keep what is in these files now. A disk without room is no failure: they are asked of the service then."""
        try:
            for file in files:
                if 0 <= file.stat().st_size <= MOST_BYTES:
                    with file.open("rb") as opened:
                        self._open().put_stream(iter(lambda: opened.read(_PIECE_BYTES), b""))
            if self._store is not None:
                self._store.sync()
        except (OSError, EveryShelfError):
            return

    def write(self, content: str, target: Path) -> bool:
        """Write a content into ``target``; False if it is not kept here, or damaged."""
        if not self._folder.is_dir():
            return False
        try:
            store = self._open()
            if not store.has(content) or store.verify(content) is not None:
                return False
            with target.open("wb") as file:
                file.writelines(store.iter_range(content))
        except EveryShelfError:
            return False
        return True

    def make_room(self, needed: dict[str, int]) -> None:
        """Where much more is kept than the contents in ``needed`` (id -> bytes), keep those only."""
        if not self._folder.is_dir():
            return
        held = sum(file.stat().st_size for file in self._folder.iterdir())
        if held <= 4 * sum(needed.values()) + _SPARE_BYTES:
            return
        from everyshelf.core.content.store import ContentStore

        fresh = self._folder.with_name(f"{_FOLDER}.new")
        shutil.rmtree(fresh, ignore_errors=True)
        old, new = self._open(), ContentStore(fresh)
        for content in needed:
            if old.has(content) and old.verify(content) is None:
                new.put_stream(old.iter_range(content))
        new.close()
        old.close()
        self._store = None
        gone = self._folder.with_name(f"{_FOLDER}.old")
        os.replace(self._folder, gone)
        os.replace(fresh, self._folder)
        shutil.rmtree(gone, ignore_errors=True)
