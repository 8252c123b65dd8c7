"""Branches and tags sent to a repository in a folder: a pack put beside its own, then each ref moved under its lock.

Files are written as ``gitrepository-layout`` and ``githooks`` describe them, in the order in which Git writes them, so
that a reader sees all or nothing. A ref is locked by ``NAME.lock``, as Git does, and moves on only:
nothing there is overwritten.
"""

from __future__ import annotations

import errno
import os
import shutil
import tempfile
from collections.abc import Iterable, Mapping
from pathlib import Path

from everyshelf.core.errors import ConflictError, EveryShelfError, OutOfReachError, RefusedError, StorageError
from everyshelf.core.sharing import shared_mode
from everyshelf.gitside.on_disk.files import folder_at, read_file, write_new
from everyshelf.gitside.on_disk.reading import OnDisk
from everyshelf.gitside.repository import Repository

_MOST_REF = 4096
_PIECE = 1024 * 1024


def send(there: OnDisk, ours: Repository, refs: Mapping[str, str]) -> dict[str, EveryShelfError]:
    """Move refs there (keys) to objects of the service. Returns each refused ref with the reason."""
    there.require_plain()
    before = there.refs()
    refused: dict[str, EveryShelfError] = {}
    wanted: dict[str, str] = {}
    for name, identity in refs.items():
        try:
            _check(there, ours, before, name, identity)
        except EveryShelfError as error:
            refused[name] = error
        else:
            wanted[name] = identity
    try:
        _put_objects(there, ours, wanted.values(), before.values())
        for name, identity in wanted.items():
            try:
                _move(there, name, before.get(name), identity)
            except EveryShelfError as error:
                refused[name] = error
    except OSError as error:
        raise _not_written(there, error) from error
    return refused


def may_write(there: OnDisk) -> None:
    """Return if the repository may be written to; raises ``RefusedError`` (git.rights, git.hooks)."""
    there.check()
    there.require_plain()
    if not all(os.access(there.root / name, os.W_OK | os.X_OK) for name in ("objects", "refs")):
        raise _not_written(there, PermissionError(errno.EACCES, "may not be written to"))


def _not_written(there: OnDisk, error: OSError) -> EveryShelfError:
    if error.errno in (errno.ENOSPC, errno.EDQUOT):
        return StorageError(
            f"the disk of {there.shown} is full", code="git.disk", hint="Make room there and try again."
        )
    if error.errno in (errno.EACCES, errno.EPERM, errno.EROFS):
        return RefusedError(
            f"the service may not write to {there.shown}",
            code="git.rights",
            hint="Let its user write there, or let the link fetch only: everyshelf git-link change NAME --way fetch",
        )
    return OutOfReachError(
        f"{there.shown} could not be written: {error.strerror or error}",
        code="git.failed",
        hint="It is tried again later.",
    )


def _short(name: str) -> str:
    return name.removeprefix("refs/heads/").removeprefix("refs/tags/")


def _check(there: OnDisk, ours: Repository, before: Mapping[str, str], name: str, identity: str) -> None:
    """Return if a ref may move to an object."""
    old = before.get(name)
    if old == identity:
        return
    if name.startswith("refs/tags/") and old is not None:
        raise ConflictError(f"the tag {_short(name)} is another one there", code="git.tag", hint="Tags never move.")
    if old is not None and not (ours.has(old) and _is_ancestor(ours, old, identity)):
        raise _diverged(name)
    in_the_way = [o for o in before if o.startswith(f"{name}/") or name.startswith(f"{o}/")]
    if in_the_way:
        raise _guarded(there, name, f"{_short(in_the_way[0])} is there, and a name cannot be a folder of names, too")
    if name == there.checked_out():
        raise _guarded(there, name, "it is checked out there")


def _is_ancestor(ours: Repository, before: str, after: str) -> bool:
    return ours.run("rev-list", "--count", "--max-count=1", before, f"^{after}").strip() == b"0"


def _diverged(name: str) -> ConflictError:
    return ConflictError(
        f"{_short(name)} has commits there that the shelf does not have",
        code="git.diverged",
        hint="Fetch them first: everyshelf git-link fetch. Nothing there is ever overwritten.",
    )


def _guarded(there: OnDisk, name: str, why: str) -> RefusedError:
    return RefusedError(
        f"{there.shown} does not take {_short(name)}: {why}",
        code="git.guarded",
        hint="Look at what is in the way there; nothing was sent to it.",
    )


# --- objects ------------------------------------------------------------------------------


def _put_objects(there: OnDisk, ours: Repository, wanted: Iterable[str], known: Iterable[str]) -> None:
    """One pack with what the refs need and the repository lacks, whole before its index tells of it."""
    tips = list(dict.fromkeys(wanted))
    if not tips:
        return
    with tempfile.TemporaryDirectory(prefix="everyshelf-git-") as folder:
        asked = [*tips, *(f"^{one}" for one in dict.fromkeys(known) if ours.has(one))]
        given = "".join(f"{one}\n" for one in asked).encode()
        made = (
            ours.run("pack-objects", "--revs", "--quiet", "--non-empty", f"{folder}/pack", given=given).decode().split()
        )
        for name in made:
            for suffix in (".pack", ".idx"):
                _put_file(there, Path(folder, f"pack-{name}{suffix}"))


def _put_file(there: OnDisk, file: Path) -> None:
    with folder_at(there.root, "objects/pack", make=True) as folder:
        part = f"tmp_{os.getpid()}_{file.name}"
        try:
            target = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o444, dir_fd=folder)
            with os.fdopen(target, "wb") as theirs, file.open("rb") as own:
                shutil.copyfileobj(own, theirs, _PIECE)
                os.fchmod(theirs.fileno(), shared_mode(0o444))
                theirs.flush()
                os.fsync(theirs.fileno())
            os.replace(part, file.name, src_dir_fd=folder, dst_dir_fd=folder)
            os.fsync(folder)
        except BaseException:
            try:
                os.unlink(part, dir_fd=folder)
            except OSError:
                pass  # it was not made, or is in place
            raise


# --- refs ---------------------------------------------------------------------------------


def _move(there: OnDisk, name: str, before: str | None, after: str) -> None:
    """Move one ref under its lock, if it is still where it was."""
    inside, _, last = name.rpartition("/")
    if before == after:
        return
    try:
        with folder_at(there.root, inside, make=True) as folder:
            lock = f"{last}.lock"
            try:
                write_new(folder, lock, f"{after}\n".encode())
            except FileExistsError as error:
                raise _guarded(there, name, "another program is moving it") from error
            try:
                if _now(there, name) != before:
                    raise _diverged(name)
                os.replace(lock, last, src_dir_fd=folder, dst_dir_fd=folder)
            except BaseException:
                os.unlink(lock, dir_fd=folder)
                raise
            os.fsync(folder)
    except (NotADirectoryError, IsADirectoryError) as error:
        raise _guarded(there, name, "another name is in its way") from error


def _now(there: OnDisk, name: str) -> str | None:
    data = read_file(there.root, name, _MOST_REF)
    if data is not None:
        return data.strip().decode("ascii", "replace")
    return there.refs().get(name)
