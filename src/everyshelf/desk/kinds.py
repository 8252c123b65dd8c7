"""Which kind the artifacts of a desk are: remembered from the shelf, or for new files what their contents show."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from everyshelf.desk.desk import Desk
    from everyshelf.desk.states import Item


def kinds_on_desk(desk: Desk, items: list[Item]) -> dict[str, str]:
    """Return the kind of each artifact by path. New files are recognised in a reading process."""
    kinds = {i.path: i.entry.kind if i.entry is not None else "opaque" for i in items}
    fresh = [i for i in items if i.entry is None and i.state != "blocked"]
    if not fresh:
        return kinds
    from everyshelf.core.kinds.recognise import HEAD_BYTES
    from everyshelf.core.reading.worker import Worker

    worker = Worker()
    try:
        files = [i for i in fresh if i.files is None]
        heads = [(i.path, _head_of(desk.root / i.path, HEAD_BYTES), i.size) for i in files]
        kinds.update(zip((i.path for i in files), worker.recognise(heads), strict=True))
        for item in fresh:
            if item.files is not None:
                kinds[item.path] = worker.recognise_folder(item.path, _files_in(desk.root / item.path, HEAD_BYTES))
    finally:
        worker.close()
    return kinds


def _head_of(file: Path, size: int) -> bytes:
    with file.open("rb") as opened:
        return opened.read(size)


def _files_in(folder: Path, size: int) -> list[tuple[str, bytes, int]]:
    """Name, first bytes and size of each file; only the first one is looked into."""
    files = (p for p in sorted(folder.rglob("*")) if p.is_file() and not p.is_symlink())
    return [
        (p.relative_to(folder).as_posix(), _head_of(p, 8 if number else size), p.stat().st_size)
        for number, p in enumerate(files)
    ]


def files_beside(file: Path) -> dict[str, Path]:
    """What belongs to a model and lies in the same folder."""
    from everyshelf.core.kinds.beside import belonging, may_have_beside

    if not may_have_beside(file.name):
        return {}
    names = sorted(p.name for p in file.parent.iterdir() if p.is_file())
    return {name: file.parent / name for name in belonging(file.name, names)}
