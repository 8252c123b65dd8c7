"""Objects that came with a push, kept apart until it is known whether they are taken."""

from __future__ import annotations

import contextlib
import os
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from everyshelf.gitside.program import failed, start_git
from everyshelf.gitside.protocol import Stream
from everyshelf.gitside.repository import Repository

_PIECE = 256 * 1024
_PREFIX = "incoming-"


@contextmanager
def apart(folder: Path) -> Iterator[Repository]:
    """The repository in ``folder`` with a place for new objects that is gone afterwards; ``take`` keeps them."""
    for left in (folder / "objects").glob(f"{_PREFIX}*"):  # of a push that was cut off
        shutil.rmtree(left, ignore_errors=True)
    place = Path(tempfile.mkdtemp(prefix=_PREFIX, dir=folder / "objects"))
    try:
        with Repository(folder, place) as repository:
            yield repository
    finally:
        shutil.rmtree(place, ignore_errors=True)


def unpack(repository: Repository, stream: Stream) -> None:
    """Read the pack on the stream, checking every object; raises ``GitError`` for one that is damaged or refused."""
    command = ["index-pack", "--stdin", "--fix-thin", "--strict", "--threads=1"]
    process = start_git(
        repository.folder,
        command,
        environment=repository.environment,
        stdin=subprocess.PIPE,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
    )
    assert process.stdin is not None and process.stderr is not None
    with contextlib.suppress(BrokenPipeError):  # it says why
        while piece := stream.read(_PIECE):
            process.stdin.write(piece)
        process.stdin.close()
    said = process.stderr.read()
    process.stderr.close()
    if process.wait():
        raise failed(command[0], process.returncode, said)


def take(repository: Repository) -> None:
    """Let the repository have what was kept apart: packs first, then the indexes by which they are found."""
    place = Path(repository.environment["GIT_OBJECT_DIRECTORY"])
    objects = repository.folder / "objects"
    files = [path for path in place.rglob("*") if path.is_file()]
    for path in sorted(files, key=lambda p: p.suffix == ".idx"):
        target = objects / path.relative_to(place)
        target.parent.mkdir(exist_ok=True)
        os.replace(path, target)
