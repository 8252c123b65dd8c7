"""A folder of its own for a run: the state of a branch away from the desk, which is left alone.

The folder is a desk by itself, so that what a command writes there is committed as anything else is. What the desk it
was asked for on has unchanged is copied from there instead of fetched. Copied, and not linked: a command that writes
into a file as it lies would write into the desk's through a hard link. Where the file system can, the copy shares its
blocks with the original until one of the two is written (``copy_file_range``, Linux; Btrfs, XFS).
"""

from __future__ import annotations

import contextlib
import os
import shutil
import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from everyshelf.desk.desk import Desk, Origin, Taken
from everyshelf.desk.writing import in_batches, side_by_side

if TYPE_CHECKING:
    from everyshelf.client import Artifact, ShelfClient

Progress = Callable[[int, int, str], None]
_PREFIX = "everyshelf-run-"
_COPY_BYTES = 1 << 30


@dataclass(frozen=True)
class Isolated:
    """The folder made for a run, as a desk, and what was brought there."""

    desk: Desk
    copied: list[str]
    """Paths that came from the desk near by; ``taken.written`` came from the service."""
    taken: Taken

    def folder_of(self, near: Desk | None, start: Path) -> Path:
        """Where in it a command runs that was called in ``start``: the same place, as far as the branch has it."""
        if near is not None and start.is_relative_to(near.root):
            place = self.desk.root / start.relative_to(near.root)
            if place.is_dir():
                return place
        return self.desk.root

    def remove(self) -> None:
        """Remove the folder with everything in it."""
        shutil.rmtree(self.desk.root, ignore_errors=True)


def make_isolated(shelf: ShelfClient, branch: str, near: Desk | None, progress: Progress) -> Isolated:
    """Bring the newest state of ``branch`` into a new folder below that for temporary files (``TMPDIR``).

    ``near``: a desk of the same shelf; its part of the shelf is taken, and unfolded as it is there. Nothing on it is
    changed. Raises ``DeskError`` where the folder cannot be made or has no room, and leaves nothing then.
    """
    root = Path(tempfile.mkdtemp(prefix=_PREFIX)).resolve()
    try:
        desk = Desk.make(root, Origin(shelf.address, shelf.key, branch, branch))
        if near is not None:
            desk.home.only, desk.home.unfold = list(near.home.only), near.home.unfold
        copied = _copy_near(shelf, branch, near, desk) if near is not None else []
        taken = desk.take(shelf, progress)
        strays = [item.path for item in desk.states() if item.state == "new"]
        if strays:  # the branch moved on, or the desk was edited, between being looked at and being copied
            for path in strays:
                (root / path).unlink(missing_ok=True)
            copied = [path for path in copied if path not in strays]
            taken.written += desk.take(shelf, progress).written
        return Isolated(desk, copied, taken)
    except BaseException:
        shutil.rmtree(root, ignore_errors=True)
        raise


def _copy_near(shelf: ShelfClient, branch: str, near: Desk, desk: Desk) -> list[str]:
    """Copy what is on the branch from the desk near by, where it is there unchanged; gives the paths."""
    here = {item.path: item.content for item in near.states() if item.content is not None}
    same = [a for a in shelf.artifacts(branch, files=True) if here.get(a.path) == a.content and desk.is_taken(a)]

    def copy(batch: list[Artifact]) -> list[str]:
        copied = []
        for artifact in batch:
            target = desk.root / artifact.path
            target.parent.mkdir(parents=True, exist_ok=True)
            with contextlib.suppress(FileNotFoundError):  # removed meanwhile: it is fetched
                _copy(near.root / artifact.path, target)
                copied.append(artifact.path)
        return copied

    batches = in_batches(same, lambda artifact: artifact.size)
    return [path for paths in side_by_side(copy, batches) for path in paths]


def _copy(source: Path, target: Path) -> None:
    with source.open("rb") as given, target.open("wb") as taken:
        try:
            while os.copy_file_range(given.fileno(), taken.fileno(), _COPY_BYTES):
                pass
        except (OSError, AttributeError):  # from one file system to another, or not on this system
            given.seek(0)
            taken.truncate(0)
            taken.seek(0)
            shutil.copyfileobj(given, taken, 1 << 20)
    # The time, too: a file as old as it is need not be read again to see that it is the same.
    shutil.copystat(source, target)
