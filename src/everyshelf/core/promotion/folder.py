"""A folder as destination: every deployment in a folder of its own, and one atomic rename of a link.

::

    ROOT/now                  link to deployed/KEY: what consumers of the environment read
    ROOT/deployed/KEY/…       the files of one deployment, read-only
    ROOT/deployed/KEY.json    what was put there, with the time stamps that tell an untouched file

The folder of a deployment nobody reads any more becomes that of the next one: only files that differ are touched in it.
Where there is none, an unchanged file is a hard link to the one of the deployment before. In both cases its length and
time stamp are still those recorded: an edit made in place is never carried along.
"""

from __future__ import annotations

import contextlib
import errno
import os
import re
import shutil
import stat
from collections.abc import Collection, Iterator
from pathlib import Path, PurePosixPath
from tempfile import TemporaryDirectory
from typing import IO

import msgspec

from everyshelf.core.content.ids import file_content_id
from everyshelf.core.durable import replace_durably, sync_folder, to_disk
from everyshelf.core.errors import ConflictError, MissingError, StorageError
from everyshelf.core.history.paths import check_path
from everyshelf.core.history.repositories import require_no_repository
from everyshelf.core.promotion.destination import Destination, Fetch, Manifest, Placed, Progress, no_progress
from everyshelf.core.sharing import make_shared
from everyshelf.decoding import from_json

_KEEP_DEPLOYED = 3
_KEY = re.compile(r"[0-9a-z][0-9a-z-]{0,63}\Z")
_NO_FILE = "0" * 64  # stands for a link, a pipe and the like: no content has this id


class _Seen(msgspec.Struct, array_like=True):
    id: str
    size: int
    mtime_ns: int


class FolderDestination(Destination):
    """A folder on this machine; only ``now`` and ``deployed`` in it are touched."""

    def __init__(self, root: Path) -> None:
        self.root = root
        self._deployed = root / "deployed"
        self._link = root / "now"

    def current(self) -> str | None:
        self._check_ground()
        try:
            target = os.readlink(self._link)
        except FileNotFoundError:
            return None
        except OSError as error:
            raise self._foreign(self._link) from error
        folder, _, key = target.rpartition("/")
        if folder != "deployed" or not _KEY.match(key):
            raise self._foreign(self._link)
        if (self._deployed / key).is_symlink():
            raise self._foreign(self._deployed / key)
        return key

    def _check_ground(self) -> None:
        """No link is followed to anywhere: who may write here must not make the service read or write elsewhere."""
        for place in (self.root, self._deployed):
            if place.is_symlink():
                raise self._foreign(place)

    def _foreign(self, place: Path) -> ConflictError:
        return ConflictError(
            f"{place} was not made by a promotion",
            code="destination.foreign",
            hint="Move it away, or choose another folder for this environment.",
        )

    def present(self, progress: Progress = no_progress) -> Manifest:
        while (key := self.current()) is not None:
            folder, seen = self._deployed / key, self._seen(key)
            result: Manifest = {}
            for path, file in _files(folder):
                progress(len(result), len(seen), path)
                with contextlib.suppress(FileNotFoundError):  # removed while this lists
                    result[path] = self._fingerprint(file, seen.get(path))
            if self.current() == key:
                return result
        return {}

    @staticmethod
    def _fingerprint(file: os.DirEntry[str], seen: _Seen | None) -> Placed:
        info = file.stat(follow_symlinks=False)
        if not file.is_file(follow_symlinks=False):
            return Placed(_NO_FILE, 0)  # told as changed, and never read
        if seen is not None and (info.st_size, info.st_mtime_ns) == (seen.size, seen.mtime_ns):
            return Placed(seen.id, seen.size)
        return Placed(file_content_id(Path(file.path)), info.st_size)

    def stage(
        self, key: str, present: Manifest, manifest: Manifest, fetch: Fetch, progress: Progress = no_progress
    ) -> None:
        self._check_ground()
        require_no_repository(manifest, str(self.root))
        final, part = self._deployed / key, self._deployed / f"{key}.part"
        if (self._deployed / f"{key}.json").exists() and final.is_dir():
            return
        try:
            shutil.rmtree(part, ignore_errors=True)
            shutil.rmtree(final, ignore_errors=True)
            stays = self._spent(manifest, part)
            if stays is None:
                make_shared(part)
            self._fill(part, manifest, stays or {}, fetch, progress)
            os.replace(part, final)
            sync_folder(self._deployed)
            self._record(key, final, manifest, stays or {})
        except OSError as error:
            shutil.rmtree(part, ignore_errors=True)
            raise StorageError(
                f"could not stage into {self.root}: {error.strerror or error}",
                hint="Look for free space and rights there; the environment is unchanged.",
            ) from error

    def _spent(self, manifest: Manifest, part: Path) -> dict[str, _Seen] | None:
        """Take the folder of a spent deployment for ``part``, where that saves more than half; tells which files in it
        may stay, all others being removed. The deployment before the current one is left alone: somebody may still be
        reading there."""
        current = self.current()
        others = [p for p in self._deployed.glob("*.json") if p.stem not in (current, part.stem)]
        others = sorted(others, key=lambda p: p.stat().st_mtime_ns)[:-1]
        known = {record.stem: self._seen(record.stem) for record in others if _is_folder(record.with_suffix(""))}
        best = max(known, key=lambda name: _shared(known[name], manifest), default=None)
        if best is None or 2 * _shared(known[best], manifest) < len(manifest):
            return None
        (self._deployed / f"{best}.json").unlink()
        sync_folder(self._deployed)
        os.replace(self._deployed / best, part)
        stays: dict[str, _Seen] = {}
        touched = set()
        for path, file in _files(part):
            seen, placed = known[best].get(path), manifest.get(path)
            info = file.stat(follow_symlinks=False)
            if (
                file.is_file(follow_symlinks=False)
                and seen
                and placed
                and seen.id == placed.id
                and (info.st_size, info.st_mtime_ns) == (seen.size, seen.mtime_ns)
            ):
                stays[path] = seen
            else:
                os.unlink(file.path)
                touched.add(os.path.dirname(file.path))
        for folder in sorted(touched, key=len, reverse=True):
            _remove_empty(Path(folder), part)
        return stays

    def _fill(self, part: Path, manifest: Manifest, stays: dict[str, _Seen], fetch: Fetch, progress: Progress) -> None:
        """Bring what is not in ``part`` yet, and make it durable."""
        before = self.current()
        seen = self._seen(before) if before else {}
        old = str(self._deployed / before) if before else None
        missing = sorted(manifest.keys() - stays.keys())
        folders = {""}
        for done, path in enumerate(missing):
            progress(done, len(missing), path)
            target, placed = f"{part}/{check_path(path)}", manifest[path]
            if (folder := path.rpartition("/")[0]) not in folders:
                make_shared(part / folder)
                folders |= {folder, *(str(above) for above in PurePosixPath(folder).parents if above.name)}
            if old is not None and self._linked(f"{old}/{path}", target, seen.get(path), placed):
                continue
            _write(Path(target), fetch(path))
        for folder in folders:
            sync_folder(part / folder)

    @staticmethod
    def _linked(old: str, target: str, seen: _Seen | None, placed: Placed) -> bool:
        if seen is None or seen.id != placed.id:
            return False
        with contextlib.suppress(OSError):
            info = os.lstat(old)
            if stat.S_ISREG(info.st_mode) and (info.st_size, info.st_mtime_ns) == (seen.size, seen.mtime_ns):
                os.link(old, target)
                return True
        return False

    def _record(self, key: str, folder: Path, manifest: Manifest, stays: dict[str, _Seen]) -> None:
        new = (path for path in manifest if path not in stays)
        fresh = {p: _Seen(manifest[p].id, manifest[p].size, os.stat(f"{folder}/{p}").st_mtime_ns) for p in new}
        _write_atomically(self._deployed / f"{key}.json", msgspec.json.encode({**stays, **fresh}))

    def switch(self, key: str) -> None:
        if self.current() == key:
            return
        fresh = self.root / f".now-{key}"
        fresh.unlink(missing_ok=True)
        os.symlink(os.path.join("deployed", key), fresh)
        os.replace(fresh, self._link)
        sync_folder(self.root)

    def differences(self, key: str, manifest: Manifest, touched: Collection[str] | None = None) -> list[str]:
        if self.current() != key:
            return sorted(manifest)
        folder, seen = self._deployed / key, self._seen(key)
        read = None if touched is None else set(touched)
        missing, wrong = set(manifest), []
        for path, file in _files(folder):
            missing.discard(path)
            believed = seen.get(path) if read is not None and path not in read else None
            if self._fingerprint(file, believed) != manifest.get(path):
                wrong.append(path)
        wrong += missing
        self._forget_old(key)
        return sorted(wrong)

    def undo(self, key: str) -> None:
        if not _KEY.match(key) or self.current() == key:
            return
        (self.root / f".now-{key}").unlink(missing_ok=True)
        (self._deployed / f"{key}.json").unlink(missing_ok=True)
        for folder in (self._deployed / f"{key}.part", self._deployed / key):
            shutil.rmtree(folder, ignore_errors=True)

    @contextlib.contextmanager
    def as_file(self, path: str) -> Iterator[Path]:
        with self._now(check_path(path)) as source, TemporaryDirectory() as folder:
            copy = Path(folder, PurePosixPath(path).name)
            with copy.open("wb") as file:
                shutil.copyfileobj(source, file)
            yield copy

    def _now(self, path: str) -> IO[bytes]:
        """Open a file of the deployment that runs, looked for again if another one was switched on meanwhile."""
        key = self.current()
        while key is not None:
            try:
                return _opened(self._deployed / key, path)
            except MissingError:
                if (now := self.current()) == key:
                    raise
                key = now
        raise MissingError(f"{path} is not in {self.root}", code="destination.missing")

    def clear(self, keys: Collection[str]) -> None:
        """Take away what these deployments put there, and the folder itself if nothing else is in it."""
        if self.current() in keys:
            self._link.unlink()
        for key in keys:
            self.undo(key)
        for folder in (self._deployed, self.root):
            with contextlib.suppress(OSError):
                folder.rmdir()

    def _seen(self, key: str) -> dict[str, _Seen]:
        try:
            data = (self._deployed / f"{key}.json").read_bytes()
            return from_json(data, dict[str, _Seen])
        except (OSError, msgspec.DecodeError):
            return {}  # without the record every file is hashed: slower, never wrong

    def _forget_old(self, key: str) -> None:
        """Keep the newest few deployments; older ones can be made again from the shelf."""
        folders = [p for p in self._deployed.iterdir() if p.is_dir() and p.name != key]
        for folder in sorted(folders, key=lambda p: p.stat().st_mtime_ns, reverse=True)[_KEEP_DEPLOYED:]:
            self.undo(folder.name)


def _files(folder: Path) -> Iterator[tuple[str, os.DirEntry[str]]]:
    """Every file below a folder with its path from there."""
    waiting = [("", str(folder))]
    while waiting:
        inner, here = waiting.pop()
        with contextlib.suppress(FileNotFoundError), os.scandir(here) as entries:
            for entry in entries:
                path = f"{inner}{entry.name}"
                if entry.is_dir(follow_symlinks=False):
                    waiting.append((f"{path}/", entry.path))
                else:
                    yield path, entry


def _is_folder(path: Path) -> bool:
    return path.is_dir() and not path.is_symlink()


def _opened(folder: Path, path: str) -> IO[bytes]:
    """An ordinary file below a folder, reached without following a link on the way."""
    handles: list[int] = []
    try:
        handles.append(os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW))
        *above, name = path.split("/")
        for step in above:
            handles.append(os.open(step, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW, dir_fd=handles[-1]))
        found = os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK, dir_fd=handles[-1])
    except (FileNotFoundError, NotADirectoryError) as error:
        raise MissingError(f"{path} is not a file in {folder}", code="destination.missing") from error
    except OSError as error:
        if error.errno == errno.ELOOP:
            raise MissingError(f"{path} is a link in {folder}", code="destination.missing") from error
        raise StorageError(
            f"could not read {path} in {folder}: {error.strerror or error}",
            hint="Look at the rights and the disk there.",
        ) from error
    finally:
        for handle in handles:
            os.close(handle)
    if not stat.S_ISREG(os.fstat(found).st_mode):
        os.close(found)
        raise MissingError(f"{path} is not a file in {folder}", code="destination.missing")
    return os.fdopen(found, "rb")


def _shared(seen: dict[str, _Seen], manifest: Manifest) -> int:
    """How many files of a deployment another one has as well."""
    return sum(1 for path, one in seen.items() if path in manifest and manifest[path].id == one.id)


def _remove_empty(folder: Path, root: Path) -> None:
    with contextlib.suppress(OSError):
        while folder != root:
            folder.rmdir()
            folder = folder.parent


def _write(target: Path, pieces: Iterator[bytes]) -> None:
    with target.open("xb") as file:
        for piece in pieces:
            file.write(piece)
        to_disk(file)
        os.fchmod(file.fileno(), 0o444)


def _write_atomically(path: Path, data: bytes) -> None:
    replace_durably(path, data, path.with_name(f".{path.name}.part"))
