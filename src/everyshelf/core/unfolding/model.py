"""What an unfolded file consists of: readable files, and the manifest that folds them again."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from pathlib import PurePosixPath
from typing import Any

import msgspec

from everyshelf.core.errors import InvalidError
from everyshelf.decoding import from_json

MANIFEST = "fold.json"
VERSION = 1
_UNSAFE = re.compile(r"[^\w .,()+-]+")
_MOST_NAME = 60


class Piece(msgspec.Struct, omit_defaults=True):
    """How one file goes back: ``indent`` is what its lines were stripped of, ``kept`` how it stood in the original
    where writing it anew gives other bytes, ``sha256`` what the file held then."""

    mode: str
    sha256: str
    indent: str = ""
    kept: str | None = None
    style: str = ""


class Manifest(msgspec.Struct):
    """The unfolded file's name, kind and form; ``marker`` begins what stands for a piece in the frame."""

    name: str
    kind: str
    form: str
    frame: str
    marker: str
    encoding: str
    pieces: dict[str, Piece]
    version: int = VERSION
    details: dict[str, Any] = msgspec.field(default_factory=dict)


@dataclass
class Unfolded:
    """All files by path, the manifest among them, and what people should know."""

    files: dict[str, bytes] = field(default_factory=dict)
    notes: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class Folded:
    """The one file again, its name, and what people should know."""

    name: str
    data: bytes
    notes: tuple[str, ...] = ()


class Names:
    """File names made from labels, each once, none that leads elsewhere."""

    def __init__(self) -> None:
        self._taken: set[str] = {MANIFEST}

    def make(self, folder: str, label: str, suffix: str) -> str:
        """``folder/label.suffix``; with a number where that is taken."""
        stem = _UNSAFE.sub("-", " ".join(label.split())).strip(" .-")[:_MOST_NAME].strip() or "unnamed"
        name, number = f"{folder}{stem}{suffix}", 1
        while name.casefold() in self._taken:
            number += 1
            name = f"{folder}{stem} ({number}){suffix}"
        return self.take(name)

    def is_taken(self, name: str) -> bool:
        """True if the name is given, in any case, or stands in the way of one that is."""
        folded = name.casefold()
        above = {folded.rsplit("/", n)[0] for n in range(folded.count("/") + 1)}
        return bool(above & self._taken) or any(t.startswith(f"{folded}/") for t in self._taken)

    def take(self, name: str) -> str:
        """Give the name away, and the folders it needs."""
        self._taken.add(name.casefold())
        return name


def read_manifest(files: dict[str, bytes]) -> Manifest:
    """The manifest of an unfolded folder; raises ``InvalidError`` where there is none or it cannot be used."""
    data = files.get(MANIFEST)
    data = files.get(MANIFEST)
    if data is None:
        raise _unusable(f"there is no {MANIFEST} in it, so nothing says how to fold it")
    try:
        manifest = from_json(data, Manifest)
    except msgspec.DecodeError as error:
        raise _unusable(f"{MANIFEST} cannot be read: {error}") from error
    if manifest.version != VERSION:
        raise _unusable(f"{MANIFEST} is of version {manifest.version}, not {VERSION}")
    if PurePosixPath(manifest.name).name != manifest.name or manifest.name in ("", ".", ".."):
        raise _unusable(f"{MANIFEST} names no file: {manifest.name!r}")
    return manifest


def _unusable(why: str) -> InvalidError:
    return InvalidError(why, code="fold.manifest", hint="Unfold the file again, or put fold.json back as it was.")
