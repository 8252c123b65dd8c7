"""What a table is made of: one file, or the files of a folder; held as bytes or lying on disk."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from pathlib import Path


@dataclass(frozen=True)
class Given:
    """A file under its name: ``data`` if it is in memory, else ``path``; or ``files``, the parts of a folder."""

    name: str
    data: bytes | None = None
    path: Path | None = None
    files: tuple[Given, ...] = ()

    @property
    def size(self) -> int:
        """Bytes of the file, or of all files."""
        if self.files:
            return sum(file.size for file in self.files)
        return len(self.data) if self.data is not None else self.path.stat().st_size if self.path else 0

    def head(self, size: int) -> bytes:
        """The first ``size`` bytes."""
        if self.data is not None:
            return self.data[:size]
        assert self.path is not None
        with self.path.open("rb") as file:
            return file.read(size)

    @cached_property
    def content(self) -> bytes:
        """All bytes; read once."""
        if self.data is not None:
            return self.data
        assert self.path is not None
        return self.path.read_bytes()

    def on_disk(self, folder: Path) -> Path:
        """A path to the file, written into ``folder`` if it is in memory only."""
        if self.path is not None:
            return self.path
        place = folder / f"given-{id(self)}"
        place.write_bytes(self.content)
        return place


def given_at(name: str, path: Path) -> Given:
    """A file on disk, or a folder with all files below it; links are left out."""
    if not path.is_dir():
        return Given(name, path=path)
    found = (p for p in sorted(path.rglob("*")) if p.is_file() and not p.is_symlink())
    return Given(name, files=tuple(Given(p.relative_to(path).as_posix(), path=p) for p in found))
