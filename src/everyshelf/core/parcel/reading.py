"""Opening, checking and unpacking. Nothing of a parcel is believed before it is checked."""

from __future__ import annotations

import hashlib
import re
import shutil
import stat
import struct
import zipfile
import zlib
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any, NoReturn

import orjson

from everyshelf.core.errors import EveryShelfError, InvalidError, StorageError
from everyshelf.core.history.paths import check_path

_MOST_TAG_BYTES = 64 * 1024 * 1024
_LINE = re.compile(r"([0-9a-fA-F]{64})[ \t]+\*?(.+)\Z")
_PIECE = 1 << 20
# What the library raises for damaged archives, whatever is damaged: names, sizes, the compressed bytes, the directory.
_BROKEN = (
    zipfile.BadZipFile,
    zlib.error,
    struct.error,
    OSError,
    EOFError,
    ValueError,
    KeyError,
    IndexError,
    RuntimeError,
    OverflowError,
)
# Deflate reaches 1,032 to 1, and files that people send rarely 100; below the second bound nobody is harmed.
_MOST_RATIO, _ALWAYS_BYTES = 200, 64 * 1024 * 1024


class Parcel:
    """A parcel on this disk. Raises ``InvalidError`` (parcel.unreadable) if the file is none.

    ``about``: what ``packed.json`` says. ``digests``: path -> SHA-256 that the manifest states.
    """

    def __init__(self, file: Path) -> None:
        self.file = file
        try:
            self._archive = zipfile.ZipFile(file)
        except _BROKEN as error:
            raise InvalidError(
                f"{file.name} is not a parcel: {error}", code="parcel.unreadable", hint="Was it sent completely?"
            ) from error
        self._entries = self._checked_names()
        self.name = next(iter(self._entries)).partition("/")[0] if self._entries else ""
        if self._tag("bagit.txt").split(b"\n")[0].strip() not in (b"BagIt-Version: 1.0", b"BagIt-Version: 0.97"):
            self._unreadable("bagit.txt names no version that is known here")
        self.digests = {p.removeprefix("data/"): d for p, d in self._manifest("manifest-sha256.txt").items()}
        self.about = self._json("packed.json")

    def close(self) -> None:
        """Let go of the file."""
        self._archive.close()

    def _unreadable(self, why: str) -> NoReturn:
        raise InvalidError(f"{self.file.name} is not a parcel: {why}", code="parcel.unreadable", hint="Pack it again.")

    def _unsafe(self, name: str, why: str) -> NoReturn:
        raise InvalidError(
            f"{name[:200]!r} in {self.file.name} is not safe: {why}",
            code="parcel.unsafe",
            hint="Do not unpack it; ask whoever sent it.",
        )

    def _tampered(self, name: str, why: str) -> NoReturn:
        raise InvalidError(
            f"{name} in {self.file.name} {why}",
            code="parcel.tampered",
            hint="It was changed or damaged on its way; ask for it again.",
        )

    # --- names -----------------------------------------------------------------

    def _checked_names(self) -> dict[str, zipfile.ZipInfo]:
        """Every file by name; refuses names and kinds of entries that could reach outside or hide something."""
        found: dict[str, zipfile.ZipInfo] = {}
        folded: set[str] = set()
        tops = set()
        for entry in self._archive.infolist():
            name = entry.filename
            if stat.S_ISLNK(entry.external_attr >> 16):
                self._unsafe(name, "it is a link")
            if entry.flag_bits & 1:
                self._unsafe(name, "it is encrypted")
            try:
                check_path(name.rstrip("/"))
            except EveryShelfError as error:
                self._unsafe(name, error.message.rpartition(": ")[2])
            tops.add(name.partition("/")[0])
            if name.endswith("/"):
                continue
            if name.casefold() in folded:
                self._unsafe(name, "the name is there twice")
            folded.add(name.casefold())
            found[name] = entry
        if len(tops) != 1:
            self._unreadable("it does not hold exactly one folder")
        return found

    def _tag(self, name: str) -> bytes:
        entry = self._entries.get(f"{self.name}/{name}")
        if entry is None:
            self._unreadable(f"{name} is missing")
        if entry.file_size > _MOST_TAG_BYTES:
            self._unsafe(name, "it is far too large")
        try:
            return self._archive.read(entry)
        except _BROKEN as error:
            self._tampered(name, f"is damaged: {error}")

    def _json(self, name: str) -> dict[str, Any]:
        """A file of JSON that may be missing: a bag of another program has none."""
        if f"{self.name}/{name}" not in self._entries:
            return {}
        try:
            found = orjson.loads(self._tag(name))
        except orjson.JSONDecodeError as error:
            self._tampered(name, f"is not JSON: {error}")
        return found if isinstance(found, dict) else {}

    def _manifest(self, name: str) -> dict[str, str]:
        found = {}
        for line in self._tag(name).decode("utf-8", "replace").splitlines():
            match = _LINE.match(line)
            if match is None:
                self._tampered(name, f"has a line that says no checksum: {line[:80]!r}")
            path = match[2].replace("%0A", "\n").replace("%0D", "\r").replace("%25", "%")
            if path in found:
                self._tampered(name, f"names {path} twice")
            found[path] = match[1].lower()
        return found

    # --- checking ----------------------------------------------------------------

    def _unpacked_size(self) -> int:
        """Bytes of all files; raises ``InvalidError`` (parcel.unsafe) for far more than their packed bytes can mean."""
        size = sum(entry.file_size for entry in self._entries.values())
        packed = self.file.stat().st_size
        if size > _MOST_RATIO * packed + _ALWAYS_BYTES:
            self._unsafe(self.file.name, f"its {packed:,} bytes would unpack to {size:,}")
        return size

    def verify(self) -> int:
        """Read everything; gives how many artifacts are as they were packed. Raises ``InvalidError`` (parcel.tampered,
        parcel.unsafe) that names the first file that is not."""
        self._unpacked_size()
        tags = self._manifest("tagmanifest-sha256.txt")
        payload = {f"data/{path}": digest for path, digest in self.digests.items()}
        there = {n.removeprefix(f"{self.name}/") for n in self._entries} - {"tagmanifest-sha256.txt"}
        for name in sorted(there - tags.keys() - payload.keys()):
            self._tampered(name, "is named by no manifest")
        for name, digest in sorted({**tags, **payload}.items()):
            if name not in there:
                self._tampered(name, "is missing")
            if self._digest(name) != digest:
                self._tampered(name, "is not what its checksum says")
        return len(payload)

    def _digest(self, name: str) -> str:
        digest = hashlib.sha256()
        for piece in self._pieces(name):
            digest.update(piece)
        return digest.hexdigest()

    def _pieces(self, name: str) -> Iterator[bytes]:
        try:
            with self._archive.open(self._entries[f"{self.name}/{name}"]) as file:  # gives no more than it says it has
                while piece := file.read(_PIECE):
                    yield piece
        except _BROKEN as error:
            self._tampered(name, f"is damaged: {error}")

    # --- what is in it -------------------------------------------------------------

    def artifacts(self) -> list[dict[str, Any]]:
        """What is known of each artifact, by path, with ``size`` in bytes and ``sha256``."""
        return [self._known(path, digest) for path, digest in sorted(self.digests.items())]

    def _known(self, path: str, digest: str) -> dict[str, Any]:
        told = self._json(f"about/{path}.json")
        entry = self._entries.get(f"{self.name}/data/{path}")
        size = entry.file_size if entry is not None else 0
        return {"kind": "", **told, "path": path, "size": size, "sha256": digest}

    def read(self, path: str) -> Iterator[bytes]:
        """The bytes of one artifact, in pieces."""
        return self._pieces(f"data/{path}")

    def _check_room(self, folder: Path) -> None:
        """A small parcel may say that it unpacks to a full disk: that is looked at before anything is read."""
        size = self._unpacked_size()
        above = next(p for p in (folder, *folder.absolute().parents) if p.exists())
        free = shutil.disk_usage(above).free
        if size > free:
            raise StorageError(f"{self.file.name} unpacks to {size:,} bytes, and {above} has {free:,} left")

    def unpack(self, folder: Path, paths: Iterable[str] | None = None) -> int:
        """Write the artifacts, or those at ``paths``, into an empty or new folder, after checking all of the parcel;
        gives how many."""
        chosen = sorted(self.digests if paths is None else paths)
        self._check_room(folder)
        self.verify()
        if folder.exists() and any(folder.iterdir()):
            raise InvalidError(
                f"{folder} is not empty", code="parcel.occupied", hint="Name a new folder: nothing is overwritten."
            )
        try:
            for path in chosen:
                target = folder / check_path(path)
                target.parent.mkdir(parents=True, exist_ok=True)
                with target.open("xb") as file:
                    file.writelines(self.read(path))
        except OSError as error:
            raise StorageError(f"could not unpack into {folder}: {error.strerror or error}") from error
        return len(chosen)
