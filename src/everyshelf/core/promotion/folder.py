"""A folder as destination: versions aside, and one atomic rename of a link.

::

    ROOT/current              link to versions/KEY: what consumers of the environment read
    ROOT/versions/KEY/…       the files of one deployment, read-only
    ROOT/versions/KEY.json    what was put there, with the time stamps that tell an untouched file

An unchanged file is a hard link to the one of the deployment before, provided that its length and time stamp are still
those recorded: an edit made in place is never carried along.
"""

from __future__ import annotations

import contextlib
import os
import shutil
from collections.abc import Collection, Iterator
from pathlib import Path

import msgspec
import orjson

from everyshelf.core.content.ids import file_content_id
from everyshelf.core.errors import ConflictError, MissingError, StorageError
from everyshelf.core.history.paths import check_path
from everyshelf.core.promotion.destination import Destination, Fetch, Manifest, Placed, Progress, no_progress

_KEEP_VERSIONS = 3


class _Seen(msgspec.Struct, array_like=True):
    id: str
    size: int
    mtime_ns: int


class FolderDestination(Destination):
    """A folder on this machine; only ``current`` and ``versions`` in it are touched."""

    def __init__(self, root: Path) -> None:
        self.root = root
        self._versions = root / "versions"
        self._link = root / "current"

    def current(self) -> str | None:
        try:
            return os.path.basename(os.readlink(self._link))
        except FileNotFoundError:
            return None
        except OSError as error:
            raise ConflictError(
                f"{self._link} is not a link made by a promotion",
                code="destination.foreign",
                hint="Move it away, or choose another folder for this environment.",
            ) from error

    def present(self, progress: Progress = no_progress) -> Manifest:
        key = self.current()
        if key is None:
            return {}
        folder, seen = self._versions / key, self._seen(key)
        paths = sorted(_files(folder))
        result: Manifest = {}
        for done, path in enumerate(paths):
            progress(done, len(paths), path)
            result[path] = self._fingerprint(folder / path, seen.get(path))
        return result

    @staticmethod
    def _fingerprint(file: Path, seen: _Seen | None) -> Placed:
        stat = file.stat()
        if seen is not None and (stat.st_size, stat.st_mtime_ns) == (seen.size, seen.mtime_ns):
            return Placed(seen.id, seen.size)
        return Placed(file_content_id(file), stat.st_size)

    def stage(
        self, key: str, present: Manifest, manifest: Manifest, fetch: Fetch, progress: Progress = no_progress
    ) -> None:
        final, part = self._versions / key, self._versions / f"{key}.part"
        if (self._versions / f"{key}.json").exists() and final.is_dir():
            return
        try:
            shutil.rmtree(part, ignore_errors=True)
            shutil.rmtree(final, ignore_errors=True)
            part.mkdir(parents=True)
            self._fill(part, manifest, fetch, progress)
            _sync_tree(part)
            os.replace(part, final)
            self._record(key, final, manifest)
        except OSError as error:
            shutil.rmtree(part, ignore_errors=True)
            raise StorageError(
                f"could not stage into {self.root}: {error.strerror or error}",
                hint="Look for free space and rights there; the environment is unchanged.",
            ) from error

    def _fill(self, part: Path, manifest: Manifest, fetch: Fetch, progress: Progress) -> None:
        before = self.current()
        seen = self._seen(before) if before else {}
        old = self._versions / before if before else None
        for done, (path, placed) in enumerate(sorted(manifest.items())):
            progress(done, len(manifest), path)
            target = part / check_path(path)
            target.parent.mkdir(parents=True, exist_ok=True)
            if old is not None and self._linked(old / path, target, seen.get(path), placed):
                continue
            _write(target, fetch(path))

    @staticmethod
    def _linked(old: Path, target: Path, seen: _Seen | None, placed: Placed) -> bool:
        if seen is None or seen.id != placed.id:
            return False
        with contextlib.suppress(OSError):
            stat = old.lstat()
            if (stat.st_size, stat.st_mtime_ns) == (seen.size, seen.mtime_ns):
                os.link(old, target)
                return True
        return False

    def _record(self, key: str, folder: Path, manifest: Manifest) -> None:
        rows = {p: [m.id, m.size, (folder / p).stat().st_mtime_ns] for p, m in manifest.items()}
        _write_atomically(self._versions / f"{key}.json", orjson.dumps(rows))

    def switch(self, key: str) -> None:
        if self.current() == key:
            return
        fresh = self.root / f".current-{key}"
        fresh.unlink(missing_ok=True)
        os.symlink(os.path.join("versions", key), fresh)
        os.replace(fresh, self._link)
        _sync_folder(self.root)

    def differences(self, key: str, manifest: Manifest, touched: Collection[str] | None = None) -> list[str]:
        if self.current() != key:
            return sorted(manifest)
        folder, seen = self._versions / key, self._seen(key)
        there = set(_files(folder))
        wrong = list(there ^ set(manifest))
        for path in there & set(manifest):
            linked = (folder / path).stat().st_nlink > 1
            found = self._fingerprint(folder / path, seen.get(path) if linked else None)
            if found != manifest[path]:
                wrong.append(path)
        self._forget_old(key)
        return sorted(wrong)

    def undo(self, key: str) -> None:
        if self.current() == key:
            return
        (self.root / f".current-{key}").unlink(missing_ok=True)
        (self._versions / f"{key}.json").unlink(missing_ok=True)
        for folder in (self._versions / f"{key}.part", self._versions / key):
            shutil.rmtree(folder, ignore_errors=True)

    @contextlib.contextmanager
    def as_file(self, path: str) -> Iterator[Path]:
        key = self.current()
        file = self._versions / (key or "") / check_path(path)
        if key is None or not file.is_file():
            raise MissingError(f"{path} is not in {self.root}", code="destination.missing")
        yield file

    def _seen(self, key: str) -> dict[str, _Seen]:
        try:
            data = (self._versions / f"{key}.json").read_bytes()
            return msgspec.json.decode(data, type=dict[str, _Seen])
        except (OSError, msgspec.DecodeError):
            return {}  # without the record every file is hashed: slower, never wrong

    def _forget_old(self, key: str) -> None:
        """Keep the newest few deployments; older ones can be made again from the shelf."""
        folders = [p for p in self._versions.iterdir() if p.is_dir() and p.name != key]
        for folder in sorted(folders, key=lambda p: p.stat().st_mtime_ns, reverse=True)[_KEEP_VERSIONS:]:
            self.undo(folder.name)


def _files(folder: Path) -> Iterator[str]:
    for base, _, names in os.walk(folder):
        inner = os.path.relpath(base, folder)
        for name in names:
            yield name if inner == "." else f"{inner}/{name}"


def _write(target: Path, pieces: Iterator[bytes]) -> None:
    with target.open("xb") as file:
        for piece in pieces:
            file.write(piece)
        file.flush()
        os.fsync(file.fileno())
        os.fchmod(file.fileno(), 0o444)


def _write_atomically(path: Path, data: bytes) -> None:
    part = path.with_name(f".{path.name}.part")
    with part.open("wb") as file:
        file.write(data)
        file.flush()
        os.fsync(file.fileno())
    os.replace(part, path)
    _sync_folder(path.parent)


def _sync_tree(folder: Path) -> None:
    for base, _, _ in os.walk(folder):
        _sync_folder(Path(base))


def _sync_folder(folder: Path) -> None:
    descriptor = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)
