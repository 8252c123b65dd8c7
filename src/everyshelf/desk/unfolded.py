"""Unfolded artifacts on a desk: ``NAME.unfolded/`` beside the file, edited parts folded back into it.

What was written or folded last is remembered by content and time stamps, so that the next look knows which side
somebody edited. Where both were, neither is touched and the artifact is told as blocked.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from pathlib import Path

import msgspec

from everyshelf.core.errors import EveryShelfError
from everyshelf.core.unfolding import (
    FOLDER_SUFFIX,
    MANIFEST,
    UNFOLDED_KINDS,
    fold,
    read_folder,
    unfold,
    write_folder,
)
from everyshelf.desk.store import FOLDER

_MEMORY = "unfolded.json"
_MOST_BYTES = 200 * 1024 * 1024


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


def unfold_here(root: Path, path: str) -> list[str]:
    """Lay the parts of one artifact beside it; gives what people should know. Raises ``InvalidError``."""
    file = root / path
    content = file.read_bytes()
    unfolded = unfold(file.name, content)
    write_folder(parts_of(file), unfolded, over_edits=path in _load(root))
    memory = _load(root)
    memory[path] = _Known(_digest(content), _stamps(parts_of(file)))
    _save(root, memory)
    return unfolded.notes


def unfold_all(root: Path, artifacts: Iterable[tuple[str, str]]) -> list[str]:
    """Lay beside each (path, kind) that hides parts its parts; gives the paths that were unfolded."""
    done = []
    for path, kind in artifacts:
        if kind not in UNFOLDED_KINDS or (root / path).stat().st_size > _MOST_BYTES:
            continue
        try:
            unfold_here(root, path)
        except EveryShelfError:
            continue  # nothing in it that would be worth a file of its own
        done.append(path)
    return done


def bring_level(root: Path) -> dict[str, str]:
    """Fold edited parts into their files and unfold files that changed; path -> why that could not be done."""
    memory, blocked, changed = _load(root), {}, False
    for path, known in list(memory.items()):
        file, folder = root / path, parts_of(root / path)
        if not file.is_file() or not is_unfolded(folder):
            del memory[path]
            changed = True
            continue
        stamps = _stamps(folder)
        content = file.read_bytes()
        parts_edited, file_edited = stamps != known.stamps, _digest(content) != known.content
        if not parts_edited and not file_edited:
            continue
        try:
            if parts_edited and file_edited and fold(read_folder(folder)).data != content:
                hint = "remove the folder to keep the file"
                blocked[path] = f"it and its parts in {folder.name} were both edited; {hint}"
                continue
            if parts_edited and not file_edited:
                content = fold(read_folder(folder)).data
                _replace(file, content)
            elif file_edited and not parts_edited:
                write_folder(folder, unfold(file.name, content), over_edits=True)
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
        return msgspec.json.decode((root / FOLDER / _MEMORY).read_bytes(), type=dict[str, _Known])
    except (FileNotFoundError, msgspec.DecodeError):
        return {}


def _save(root: Path, memory: dict[str, _Known]) -> None:
    target = root / FOLDER / _MEMORY
    if memory or target.exists():
        part = target.with_name(f".{_MEMORY}.part")
        part.write_bytes(msgspec.json.encode(memory))
        part.replace(target)
