"""Unfolded files in a folder: nothing stale is left, and nothing of anybody else is touched."""

from __future__ import annotations

import hashlib
import os
from pathlib import Path

import msgspec

from everyshelf.core.errors import InvalidError
from everyshelf.core.unfolding.model import MANIFEST, Manifest, Unfolded
from everyshelf.decoding import from_json

FOLDER_SUFFIX = ".unfolded"
_MOST_BYTES = 500 * 1024 * 1024
_MOST_FILES = 50_000


def write_folder(folder: Path, unfolded: Unfolded, *, over_edits: bool = False) -> list[str]:
    """Write all files; those of an earlier unfolding that are not among them any more are removed and returned.

    Raises ``InvalidError`` if the folder holds something that is no unfolded file, or parts somebody edited that were
    not folded yet (``over_edits``: the caller knows that they were).
    """
    manifest = _earlier(folder)
    before = {*manifest.pieces, manifest.frame} if manifest else set()
    edited = [] if manifest is None or over_edits else _edited(folder, manifest, unfolded)
    if edited:
        raise InvalidError(
            f"{folder} holds edits that were not folded yet: {', '.join(edited[:3])}",
            code="unfold.edited",
            hint=f"Fold them first: everyshelf fold {folder}; or remove the folder.",
        )
    for path, data in unfolded.files.items():
        if path != MANIFEST:
            _write(folder, path, data)
    stale = sorted(before - set(unfolded.files))
    for path in stale:
        _remove(folder, path)
    _write(folder, MANIFEST, unfolded.files[MANIFEST])  # last: with it the folder is whole
    return stale


def _edited(folder: Path, manifest: Manifest, unfolded: Unfolded) -> list[str]:
    """Files that are neither what was unfolded then nor what is unfolded now."""
    known = {path: piece.sha256 for path, piece in manifest.pieces.items()}
    known[manifest.frame] = manifest.details.get("frame", "")
    found = []
    for path, digest in known.items():
        file = _inside(folder, path)
        data = file.read_bytes() if file.is_file() else None
        if data not in (None, unfolded.files.get(path)) and hashlib.sha256(data).hexdigest() != digest:
            found.append(path)
    return sorted(found)


def _earlier(folder: Path) -> Manifest | None:
    """What an earlier unfolding into the folder wrote, or None."""
    if not folder.exists() or not any(folder.iterdir()):
        return None
    try:
        return from_json((folder / MANIFEST).read_bytes(), Manifest)
    except (OSError, msgspec.DecodeError) as error:
        raise InvalidError(
            f"{folder} holds other things already",
            code="unfold.taken",
            hint="Name an empty or new folder with --output.",
        ) from error


def _inside(folder: Path, path: str) -> Path:
    """The file's place; a path that would lead out of the folder is refused."""
    target = folder / path
    if ".." in Path(path).parts or Path(path).is_absolute() or not path:
        raise InvalidError(f"{path!r} leads out of the folder", code="fold.path")
    return target


def _write(folder: Path, path: str, data: bytes) -> None:
    target = _inside(folder, path)
    target.parent.mkdir(parents=True, exist_ok=True)
    if target.is_file() and not target.is_symlink() and target.read_bytes() == data:
        return  # its time stamp says when it last changed
    part = target.with_name(f".{target.name[:100]}.part")
    part.write_bytes(data)
    part.replace(target)


def _remove(folder: Path, path: str) -> None:
    target = _inside(folder, path)
    target.unlink(missing_ok=True)
    for parent in list(target.parents):
        if parent == folder or folder not in parent.parents:
            break
        try:
            parent.rmdir()
        except OSError:
            break


def read_folder(folder: Path) -> dict[str, bytes]:
    """All files below an unfolded file's folder; links are not followed."""
    files: dict[str, bytes] = {}
    size = 0
    for here, below, names in os.walk(folder):
        below.sort()
        for name in sorted(names):
            file = Path(here) / name
            if file.is_symlink() or not file.is_file() or name.endswith(".part"):
                continue
            size += file.stat().st_size
            if size > _MOST_BYTES or len(files) > _MOST_FILES:
                raise InvalidError(f"{folder} holds too much to be folded", code="fold.size")
            files[file.relative_to(folder).as_posix()] = file.read_bytes()
    return files
