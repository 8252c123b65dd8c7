"""Objects that came with a push, kept apart until it is known whether they are taken."""

from __future__ import annotations

import contextlib
import fcntl
import os
import select
import shutil
import subprocess
import tempfile
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import IO

from everyshelf.gitside.pack_limits import MIB, PackLimits, check_pack
from everyshelf.gitside.program import ChildLimits, failed, start_git
from everyshelf.gitside.repository import Repository

_PIECE = 256 * 1024
_PREFIX = "incoming-"
_LOOK_MS = 500
MOST_ADDRESS_SPACE = 640 * MIB  # of the program, libraries and mapped packs included
_MOST_SECONDS = 900


@contextmanager
def apart(folder: Path) -> Iterator[Repository]:
    """The repository in ``folder`` with a place for new objects that is gone afterwards; ``take`` keeps them. Several
    may be open at the same time."""
    for left in (folder / "objects").glob(f"{_PREFIX}*"):
        with _held(left) as is_free:
            if is_free:  # of a push that was cut off
                shutil.rmtree(left, ignore_errors=True)
    with ExitStack() as stack:
        place = Path(tempfile.mkdtemp(prefix=_PREFIX, dir=folder / "objects"))
        while not stack.enter_context(_held(place)):  # another push took it for one that was cut off
            place = Path(tempfile.mkdtemp(prefix=_PREFIX, dir=folder / "objects"))
        stack.callback(shutil.rmtree, place, ignore_errors=True)
        yield stack.enter_context(Repository(folder, place))


@contextmanager
def _held(place: Path) -> Iterator[bool]:
    """A folder that is in use: False if it is by another. The lock ends with the process."""
    try:
        lock = os.open(place, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    except FileNotFoundError:
        yield False
        return
    try:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            yield False
        else:
            yield True
    finally:
        os.close(lock)


def unpack(repository: Repository, stream: IO[bytes], limits: PackLimits, tick: Callable[[], None]) -> int:
    """Read the pack on the stream, checking every object, and give their number; raises ``GitError`` for one that is
    damaged or refused and ``LimitError`` for what would take too much. ``tick`` may raise to end it."""
    start = stream.tell()
    count = check_pack(stream, limits, tick)
    stream.seek(start)
    command = ["index-pack", "--stdin", "--fix-thin", "--strict", "--threads=1"]
    process = start_git(
        repository.folder,
        command,
        environment=repository.environment,
        stdin=subprocess.PIPE,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
        limits=ChildLimits(MOST_ADDRESS_SPACE, _MOST_SECONDS),
    )
    assert process.stdin is not None and process.stderr is not None
    try:
        with contextlib.suppress(BrokenPipeError):  # it says why
            while piece := stream.read(_PIECE):
                process.stdin.write(piece)
                tick()
            process.stdin.close()
        said = _errors_of(process.stderr, tick)
    except BaseException:
        process.kill()
        raise
    finally:
        process.stderr.close()
        process.wait()
    if process.returncode:
        raise failed(command[0], process.returncode, said)
    return count


def _errors_of(stream: IO[bytes], tick: Callable[[], None]) -> bytes:
    """What a program says of errors until it ends."""
    lines, waiting = bytearray(), select.poll()
    waiting.register(stream)
    while True:
        if waiting.poll(_LOOK_MS):
            piece = os.read(stream.fileno(), _PIECE)
            if not piece:
                return bytes(lines)
            lines += piece
        tick()


def take(repository: Repository) -> None:
    """Let the repository have what was kept apart: packs first, then the indexes by which they are found."""
    place = Path(repository.environment["GIT_OBJECT_DIRECTORY"])
    objects = repository.folder / "objects"
    files = [path for path in place.rglob("*") if path.is_file()]
    for path in sorted(files, key=lambda p: p.suffix == ".idx"):
        target = objects / path.relative_to(place)
        target.parent.mkdir(exist_ok=True)
        os.replace(path, target)
