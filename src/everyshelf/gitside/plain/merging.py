"""A merge driver of Git (``gitattributes(5)``, "Defining a custom merge driver")."""

from __future__ import annotations

import shutil
import subprocess
import tempfile
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from everyshelf.core.answers.merges import ConflictAnswer
from everyshelf.core.errors import EveryShelfError
from everyshelf.core.merge.model import Side
from everyshelf.core.reading.worker import Worker
from everyshelf.gitside.program import git_program

_BINARY_LOOK = 8000  # bytes in which Git looks for a NUL, too


@dataclass(frozen=True)
class DriverMerge:
    """What came of it. ``clean``: nothing is left to decide; ``marked``: the file has conflict markers; ``beside``: the
    other side's file; ``failed``: why the files could not be merged by meaning."""

    clean: bool
    read_as: str = ""
    combined: int = 0
    conflicts: tuple[ConflictAnswer, ...] = ()
    marked: bool = False
    beside: Path | None = None
    failed: str = ""


def merge_files_of_git(
    worker: Worker, path: str, files: tuple[Path, Path, Path], *, marker: int, rules: str, top: Path
) -> DriverMerge:
    """Merge what Git hands over: ``files`` are base, target and source, and the result goes to the target's file.

    What cannot be decided is marked in texts, ``marker`` signs wide: only what is in conflict, for the file holds what
    both sides combine. In other formats the target stays as it is, and the source is put beside it in ``top``.
    """
    _, target, source = files
    with tempfile.TemporaryDirectory(prefix="everyshelf-") as folder:
        results = [Path(folder, name) for name in ("merged", "target", "source")]
        try:
            found = worker.merge(path, files, results[0], rules=rules)
            if found.merged:
                shutil.copyfile(results[0], target)
                return DriverMerge(True, found.read_as, found.combined, tuple(found.conflicts))
            preferred: tuple[tuple[Path, Side], ...] = ((results[1], "target"), (results[2], "source"))
            sides = [worker.merge(path, files, result, rules=rules, prefer=side) for result, side in preferred]
        except EveryShelfError as error:
            return _by_lines(path, files, marker, error.message, top)
        conflicts = tuple(found.conflicts)
        if all(side.merged for side in sides) and all(_is_text(result) for result in results[1:]):
            empty = Path(folder, "nothing")
            empty.write_bytes(b"")
            status, text = _merge_lines(results[1], empty, results[2], marker)
            if status > 0:  # with nothing as the base, lines differ exactly where the two sides do
                target.write_bytes(text)
                return DriverMerge(False, found.read_as, found.combined, conflicts, marked=True)
        beside = _put_beside(path, source, top)
        return DriverMerge(False, found.read_as, found.combined, conflicts, beside=beside)


def _by_lines(path: str, files: tuple[Path, Path, Path], marker: int, why: str, top: Path) -> DriverMerge:
    base, target, source = files
    if all(map(_is_text, files)):
        status, text = _merge_lines(target, base, source, marker)
        if status >= 0:
            target.write_bytes(text)
            return DriverMerge(status == 0, "text", marked=status > 0, failed=why)
    return DriverMerge(False, "bytes", beside=_put_beside(path, source, top), failed=why)


def _merge_lines(target: Path, base: Path, source: Path, marker: int) -> tuple[int, bytes]:
    """The number of conflicts, -1 for none that could be told, and the text."""
    labels = [word for name in ("target", "base", "source") for word in ("-L", name)]
    command = [git_program(), "merge-file", "-p", "-q", f"--marker-size={marker}", *labels]
    done = subprocess.run([*command, str(target), str(base), str(source)], capture_output=True, check=False)
    return (done.returncode if done.returncode < 128 else -1), done.stdout


def _is_text(file: Path) -> bool:
    with file.open("rb") as stream:
        return b"\0" not in stream.read(_BINARY_LOOK)


def _put_beside(path: str, source: Path, top: Path) -> Path | None:
    """The other side's file as NAME.source.SUFFIX; a file that is there already is not written over."""
    wanted = PurePosixPath(path)
    for number in ("", *(f"-{n}" for n in range(2, 100))):
        beside = top / wanted.with_name(f"{wanted.stem}.source{number}{wanted.suffix}")
        if not beside.exists():
            beside.parent.mkdir(parents=True, exist_ok=True)
            shutil.copyfile(source, beside)
            return beside
    return None
