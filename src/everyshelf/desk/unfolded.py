"""Unfolded artifacts on a desk: ``NAME.unfolded/`` beside the file, edited parts folded back into it.

What was written or folded last is remembered by content and time stamps, so that the next look knows which side
somebody edited. Where both were, neither is touched and the artifact is told as blocked.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from pathlib import Path
from tempfile import TemporaryDirectory

import msgspec

from everyshelf.core.errors import EveryShelfError
from everyshelf.core.reading.messages import FileAt
from everyshelf.core.reading.worker import Worker
from everyshelf.core.unfolding.folders import FOLDER_SUFFIX, read_folder, write_folder
from everyshelf.core.unfolding.model import MANIFEST, Unfolded
from everyshelf.core.unfolding.parcels import packed, unpacked_files
from everyshelf.core.unfolding.whole import UNFOLDED_KINDS
from everyshelf.decoding import from_json
from everyshelf.desk.store import FOLDER

_MEMORY = "unfolded.json"
_MOST_BYTES = 200 * 1024 * 1024
_SECONDS = 600.0


class _Known(msgspec.Struct, array_like=True):
    """The file's digest when both sides said the same, and size and time stamp of every part then."""

    content: str
    stamps: dict[str, tuple[int, int]]


def is_unfolded(folder: Path) -> bool:
    """True for a folder that holds the parts of a file."""
    return folder.name.endswith(FOLDER_SUFFIX) and (folder / MANIFEST).is_file()


def parts_of(file: Path) -> Path:
    """Where a file's parts lie."""
    return file.with_name(file.name + FOLDER_SUFFIX)


def unfold_all(root: Path, artifacts: Iterable[tuple[str, str]]) -> list[str]:
    """Lay beside each (path, kind) that hides parts its parts; gives the paths that were unfolded."""
    done, memory = [], _load(root)
    with _Reading() as reading:
        for path, kind in artifacts:
            file = root / path
            if kind not in UNFOLDED_KINDS or file.stat().st_size > _MOST_BYTES:
                continue
            try:
                write_folder(parts_of(file), reading.unfolded(file), over_edits=path in memory)
            except EveryShelfError:
                continue  # nothing in it that would be worth a file of its own
            memory[path] = _Known(_digest(file.read_bytes()), _stamps(parts_of(file)))
            _save(root, memory)
            done.append(path)
    return done


def bring_level(root: Path) -> dict[str, str]:
    """Fold edited parts into their files and unfold files that changed; path -> why that could not be done."""
    memory, blocked, changed = _load(root), {}, False
    with _Reading() as reading:
        for path, known in list(memory.items()):
            file, folder = root / path, parts_of(root / path)
            if not file.is_file() or not is_unfolded(folder):
                del memory[path]
                changed = True
                continue
            content = file.read_bytes()
            parts_edited, file_edited = _stamps(folder) != known.stamps, _digest(content) != known.content
            if not parts_edited and not file_edited:
                continue
            try:
                if not parts_edited:
                    write_folder(folder, reading.unfolded(file), over_edits=True)
                elif not file_edited:
                    content = reading.folded(folder)
                    _replace(file, content)
                elif reading.folded(folder) != content:
                    hint = "remove the folder to keep the file"
                    blocked[path] = f"it and its parts in {folder.name} were both edited; {hint}"
                    continue
            except EveryShelfError as error:
                blocked[path] = f"{folder.name}: {error.message}"
                continue
            memory[path] = _Known(_digest(content), _stamps(folder))
            changed = True
    if changed:
        _save(root, memory)
    return blocked


def forget(root: Path, paths: Iterable[str]) -> None:
    """Take parts away together with the artifacts they belong to."""
    import shutil

    memory = _load(root)
    for path in [p for p in paths if p in memory]:
        folder = parts_of(root / path)
        if is_unfolded(folder) and not (root / path).exists():
            shutil.rmtree(folder)
            del memory[path]
    _save(root, memory)


class _Reading:
    """Unfolding and folding in a reading process, which starts when it is first needed."""

    def __enter__(self) -> _Reading:
        self._worker = Worker(deadline_seconds=_SECONDS)
        self._folder = TemporaryDirectory(prefix="everyshelf-unfold-")
        return self

    def __exit__(self, *_: object) -> None:
        self._worker.close()
        self._folder.cleanup()

    def unfolded(self, file: Path) -> Unfolded:
        """The parts of a file; raises ``InvalidError`` and ``LimitError``."""
        output = Path(self._folder.name, "parts.zip")
        notes = self._worker.unfold(FileAt(file.name, str(file)), output).notes
        return Unfolded(unpacked_files(output.read_bytes()), notes)

    def folded(self, folder: Path) -> bytes:
        """The file that the parts in a folder fold to; raises ``InvalidError`` and ``LimitError``."""
        parts, output = Path(self._folder.name, "parts.zip"), Path(self._folder.name, "folded")
        parts.write_bytes(packed(Unfolded(read_folder(folder))))
        self._worker.fold(parts, output)
        return output.read_bytes()


def _replace(file: Path, content: bytes) -> None:
    part = file.with_name(f".{file.name[:80]}.part")
    part.write_bytes(content)
    part.replace(file)


def _digest(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()


def _stamps(folder: Path) -> dict[str, tuple[int, int]]:
    found = {}
    for file in sorted(folder.rglob("*")):
        if file.is_file() and not file.name.endswith(".part"):
            stat = file.stat()
            found[file.relative_to(folder).as_posix()] = (stat.st_size, stat.st_mtime_ns)
    return found


def _load(root: Path) -> dict[str, _Known]:
    try:
        return from_json((root / FOLDER / _MEMORY).read_bytes(), dict[str, _Known])
    except (FileNotFoundError, msgspec.DecodeError):
        return {}


def _save(root: Path, memory: dict[str, _Known]) -> None:
    target = root / FOLDER / _MEMORY
    if memory or target.exists():
        part = target.with_name(f".{_MEMORY}.part")
        part.write_bytes(msgspec.json.encode(memory))
        part.replace(target)
