"""Files of this machine, in folders that an administrator allows."""

from __future__ import annotations

import os
import stat as modes
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from everyshelf.core.content.outside import Stamp
from everyshelf.core.errors import RefusedError
from everyshelf.storage.outside.places import PIECE_BYTES, Found, UnreachedError, differs, nothing_there, refused

# Time stamps have steps: of a file written within one of them, a later edit would carry the same (two seconds on FAT).
_SETTLED_NS = 2_000_000_000


class Folders:
    """Files at or below one of ``allowed`` and of none of ``never``; links that lead out of them are not followed."""

    def __init__(
        self,
        allowed: tuple[Path, ...],
        never: tuple[Path, ...] = (),
        pause: Callable[[float], None] = time.sleep,
    ) -> None:
        self._allowed = tuple(place.resolve() for place in allowed)
        self._never = tuple(place.resolve() for place in never)
        self._pause = pause

    def within(self, address: str) -> Path:
        """The file or folder that an address means, behind all links; raise ``RefusedError`` if it is not allowed."""
        return self._within(str(self._within(address).resolve()))

    def listed(self, address: str) -> Iterator[Found]:
        """List a file, or all files below a folder, by name; links and special files are listed with the reason
        why they cannot be registered."""
        top = self._within(address)
        if top.is_symlink():
            top = self._within(str(top.resolve()))
        if top.is_file():
            yield Found("", str(top), self._settled(top))
            return
        if not top.is_dir():
            raise nothing_there(address)
        for folder, below, names in os.walk(top, onerror=_raise_unreached):
            here = Path(folder)
            below[:] = sorted(name for name in below if not self._is_never(here / name))
            for name in [one for one in below if (here / one).is_symlink()]:
                yield _left_out(top, here / name, "it is a link")
            for name in sorted(names):
                yield self._one(top, here / name)

    def _one(self, top: Path, path: Path) -> Found:
        try:
            str(path).encode()
        except UnicodeEncodeError:
            return _left_out(top, path, "its name is not UTF-8")
        try:
            mode = path.lstat().st_mode
            if modes.S_ISLNK(mode):
                return _left_out(top, path, "it is a link")
            if not modes.S_ISREG(mode):
                return _left_out(top, path, "it is not an ordinary file")
            return Found(path.relative_to(top).as_posix(), str(path), self._settled(path))
        except OSError as error:
            return _left_out(top, path, error.strerror or str(error))

    def stamp(self, address: str) -> Stamp:
        """Length and times; raise ``FileNotFoundError``."""
        path = self._within(address)
        try:
            found = path.lstat()
        except NotADirectoryError as error:
            raise FileNotFoundError(address) from error
        except PermissionError as error:
            raise refused(address, error.strerror) from error
        except FileNotFoundError:
            raise
        except OSError as error:
            raise UnreachedError(address, error.strerror) from error
        if not modes.S_ISREG(found.st_mode):
            raise FileNotFoundError(address)
        return _stamp_of(found)

    def read(self, address: str, stamp: Stamp, start: int, stop: int) -> Iterator[bytes]:
        """Each piece is given only after the file was seen to be the same behind reading it."""
        path = self._within(address)
        try:
            descriptor = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
        except (NotADirectoryError, FileNotFoundError) as error:
            raise FileNotFoundError(address) from error
        except PermissionError as error:
            raise refused(address, error.strerror) from error
        except OSError as error:
            raise UnreachedError(address, error.strerror) from error
        try:
            _require_same(address, descriptor, stamp)
            at = start
            while at < stop:
                try:
                    piece = os.pread(descriptor, min(PIECE_BYTES, stop - at), at)
                except OSError as error:
                    raise UnreachedError(address, error.strerror) from error
                _require_same(address, descriptor, stamp)
                if not piece:
                    raise UnreachedError(address, f"it ends after {at} of {stamp.size} bytes")
                yield piece
                at += len(piece)
        finally:
            os.close(descriptor)

    def _within(self, address: str) -> Path:
        """The path itself, without links on the way; raise ``RefusedError`` (in_place.folder)."""
        said = Path(address)
        if said.is_absolute() and "\0" not in address:
            path = said.parent.resolve() / said.name if said.name not in ("", "..") else said.resolve()
            if any(path.is_relative_to(p) for p in self._allowed) and not self._is_never(path):
                return path
        allowed = ", ".join(map(str, self._allowed))
        raise RefusedError(
            f"{address} lies in no folder that this service may read data in",
            code="in_place.folder",
            hint=f"Name a path below {allowed}."
            if allowed
            else "An administrator can allow folders: EVERYSHELF_IN_PLACE=/FOLDER",
        )

    def _is_never(self, path: Path) -> bool:
        return any(path.is_relative_to(place) for place in self._never)

    def _settled(self, path: Path) -> Stamp:
        """The stamp of a file, once a later edit would give it another."""
        found = path.stat(follow_symlinks=False)
        fresh = _SETTLED_NS - (time.time_ns() - max(found.st_mtime_ns, found.st_ctime_ns))
        if 0 < fresh <= _SETTLED_NS:
            self._pause(fresh / 1e9)
            found = path.stat(follow_symlinks=False)
        return _stamp_of(found)


def _stamp_of(found: os.stat_result) -> Stamp:
    return Stamp(found.st_size, str(found.st_mtime_ns), str(found.st_ctime_ns))


def _require_same(address: str, descriptor: int, stamp: Stamp) -> None:
    now = _stamp_of(os.fstat(descriptor))
    if now != stamp:
        raise differs(address, stamp, now)


def _left_out(top: Path, path: Path, why: str) -> Found:
    name = path.relative_to(top).as_posix().encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")
    return Found(name, "", Stamp(0), why)


def _raise_unreached(error: OSError) -> None:
    raise UnreachedError(str(error.filename), error.strerror) from error
