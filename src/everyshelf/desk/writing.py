"""Writing files into a desk: each in one step, small ones many in one call, and never outside of it."""

from __future__ import annotations

import os
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from everyshelf.desk.errors import DeskError

if TYPE_CHECKING:
    from everyshelf.client import Artifact, ShelfClient

T = TypeVar("T")
R = TypeVar("R")
FILES_AT_ONCE = 500  # of one batch
_BATCH_BYTES = 2 * 1024 * 1024
_CALLS_AT_ONCE = 8


class Writer:
    """Writes artifacts below ``root``."""

    def __init__(self, root: Path) -> None:
        self.root = root
        self._inner: set[Path] = set()  # folders that were looked at: no link leads out of the desk there

    def forget_folders(self) -> None:
        """Look at folders again: some were removed."""
        self._inner.clear()

    def write(self, shelf: ShelfClient, artifact: Artifact) -> Artifact:
        """One artifact, as large as it may be."""
        self.put(artifact.path, lambda part: shelf.download_content(artifact.content, part))
        return artifact

    def write_many(self, shelf: ShelfClient, batch: list[Artifact]) -> list[Artifact]:
        """Small files come many in one call."""
        if len(batch) == 1:
            return [self.write(shelf, batch[0])]
        paths: dict[str, list[str]] = defaultdict(list)
        for artifact in batch:
            paths[artifact.content].append(artifact.path)
        for content, data in shelf.read_many({a.content: a.size for a in batch}):
            for path in paths[content]:
                self.put(path, lambda part, data=data: part.write_bytes(data))  # type: ignore[misc]
        return batch

    def put(self, path: str, write: Callable[[Path], Any]) -> None:
        """Write a file beside its place, then put it there in one step."""
        target = self._inside(path)
        part = target.with_name(f".{target.name[:80]}.{os.getpid()}.part")
        try:
            write(part)
            os.replace(part, target)
        finally:
            part.unlink(missing_ok=True)

    def _inside(self, path: str) -> Path:
        """The file for ``path``: the service's word is not enough to write outside the desk, through a link or not."""
        from everyshelf.core.history.paths import check_path

        target = self.root / check_path(path)
        if target.parent not in self._inner:
            if not target.parent.resolve().is_relative_to(self.root.resolve()):
                raise DeskError(
                    f"{path} would lie outside the desk, through a link", code="desk.outside", hint="Remove the link."
                )
            target.parent.mkdir(parents=True, exist_ok=True)
            self._inner.add(target.parent)
        return target


def in_batches(things: Iterable[T], size: Callable[[T], int]) -> list[list[T]]:
    """Small things together, as many as go into one call; a large one by itself."""
    batches: list[list[T]] = []
    held = _BATCH_BYTES + 1
    for thing in things:
        held += size(thing)
        if held > _BATCH_BYTES or len(batches[-1]) >= FILES_AT_ONCE:
            batches.append([])
            held = size(thing)
        batches[-1].append(thing)
    return batches


def side_by_side(act: Callable[[T], R], things: Iterable[T]) -> Iterator[R]:
    """Results of ``act`` in order, a few at a time: most of the work is waiting for the service."""
    with ThreadPoolExecutor(_CALLS_AT_ONCE) as pool:
        futures = [pool.submit(act, thing) for thing in things]
        try:
            for future in futures:
                yield future.result()
        finally:
            for future in futures:
                future.cancel()
