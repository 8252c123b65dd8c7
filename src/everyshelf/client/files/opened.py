"""Open files of a shelf: one that is read by ranges, one that is written whole."""

from __future__ import annotations

import io
import tempfile
from collections.abc import Callable
from pathlib import Path
from types import TracebackType
from typing import Any

from fsspec.spec import AbstractBufferedFile, AbstractFileSystem

# Gives bytes ``start`` to ``stop`` of a content.
Fetch = Callable[[int, int], bytes]

_IN_MEMORY = 8 * 1024 * 1024


class ReadFile(AbstractBufferedFile):  # type: ignore[misc]
    """A version, read by ranges of its content: it stays what it was when it was opened, whatever is committed."""

    def __init__(
        self, fs: AbstractFileSystem, path: str, details: dict[str, Any], fetch: Fetch, **options: Any
    ) -> None:
        self._fetch = fetch
        super().__init__(fs, path, "rb", size=details["size"], **options)
        self.details = details

    def _fetch_range(self, start: int, end: int) -> bytes:
        return self._fetch(start, min(end, self.size)) if start < self.size and start < end else b""


class WrittenFile(io.BufferedIOBase):
    """Takes bytes aside; what was written counts when it is closed, all of it at once, and not at all after an error in
    its ``with`` block."""

    def __init__(self, keep: Callable[[Path], None], start: bytes = b"", *, autocommit: bool = True) -> None:
        super().__init__()
        self._keep = keep
        self._autocommit = autocommit
        self._folder = tempfile.TemporaryDirectory(prefix="es-written-")
        self._aside = Path(self._folder.name) / "written"
        self._file = self._aside.open("w+b", buffering=_IN_MEMORY)
        self._file.write(start)
        self._discarded = False

    def writable(self) -> bool:
        """Always."""
        return True

    def seekable(self) -> bool:
        """Always: zip writers go back."""
        return True

    def readable(self) -> bool:
        """Never: open what was written again."""
        return False

    def write(self, data: Any) -> int:
        """Add bytes where the file is."""
        return self._file.write(data)

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        """Go there."""
        return self._file.seek(offset, whence)

    def tell(self) -> int:
        """Where the next bytes go."""
        return self._file.tell()

    def truncate(self, size: int | None = None) -> int:
        """Cut what was written off."""
        return self._file.truncate(size)

    def flush(self) -> None:
        """Nothing counts before the end."""
        if not self._file.closed:
            self._file.flush()

    def close(self) -> None:
        """Keep what was written, unless a transaction does so later."""
        if self.closed:
            return
        self._file.close()
        super().close()
        if self._discarded:
            self._folder.cleanup()
        elif self._autocommit:
            self.commit()

    def commit(self) -> None:
        """Keep what was written."""
        try:
            self._keep(self._aside)
        finally:
            self._folder.cleanup()

    def discard(self) -> None:
        """Keep nothing."""
        self._discarded = True
        self.close()
        self._folder.cleanup()

    def __del__(self) -> None:
        if not self.closed:  # whoever wrote it never came to its end
            self.discard()

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if kind is not None:
            self._discarded = True
        self.close()
