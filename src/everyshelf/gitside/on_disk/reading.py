"""What a repository in a folder has: branches and tags, and a copy of its objects in a repository of the service.

Its settings, hooks, alternates and attributes are never obeyed, because no program of Git is started in it: refs are
read as ``gitrepository-layout`` describes them, and objects are copied, so that what Git then reads is in a folder
that only the service writes. Indexes of packs are made again from the copies, never taken over.
"""

from __future__ import annotations

import contextlib
import errno
import fcntl
import hashlib
import os
import re
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from everyshelf.core.errors import InvalidError, LimitError, MissingError, RefusedError, StorageError
from everyshelf.gitside.on_disk.files import files_below, names_in, opened_file, read_file
from everyshelf.gitside.program import run_git
from everyshelf.gitside.repository import NO_OBJECT, Repository

_ID = re.compile(rb"[0-9a-f]{40}\Z")
_PACK = re.compile(r"pack-[0-9a-f]{40}\.pack\Z")
_LOOSE = re.compile(r"objects/[0-9a-f]{2}/[0-9a-f]{38}\Z")
_MOST_REF = 4096
_MOST_REFS = 500_000
_MOST_PACKED = 64 * 1024 * 1024
_MOST_LINKS = 5  # refs that name another ref
_PIECE = 1024 * 1024
_LEAST_FREE = 64 * 1024 * 1024
RUN_WHEN_SENT = (
    "pre-receive",
    "update",
    "proc-receive",
    "post-receive",
    "post-update",
    "push-to-checkout",
    "reference-transaction",
)


@dataclass(frozen=True)
class OnDisk:
    """The repository in ``folder``; ``shown`` is how people named it. Raises ``MissingError`` (git.missing) where there
    is none and ``InvalidError`` (git.layout) for a form that cannot be read as files alone."""

    folder: Path
    shown: str

    @property
    def root(self) -> Path:
        """The folder that has its objects and refs."""
        if "objects" not in names_in(self.folder).folders and ".git" in names_in(self.folder).folders:
            return self.folder / ".git"
        return self.folder

    def check(self) -> None:
        """Return if it can be read."""
        try:
            names = names_in(self.root)
        except OSError as error:
            raise self._missing() from error
        if not names.folders:
            raise self._missing()
        if "objects" not in names.folders or "refs" not in names.folders or "HEAD" not in names.files:
            raise self._missing()
        settings = read_file(self.root, "config", _PIECE) or b""
        if re.search(rb"(?im)^\s*objectformat\s*=\s*\"?sha256", settings):
            raise InvalidError(
                f"{self.shown} names its objects by SHA-256, which is not supported yet",
                code="git.object_format",
                hint="Use a repository with SHA-1 ids.",
            )
        odd = [name for name in ("reftable", "commondir", "shallow") if name in (*names.folders, *names.files)]
        if odd or (read_file(self.root, "objects/info/alternates", 1) or b""):
            what = {"reftable": "keeps its branches in tables", "commondir": "is a part of another repository"}
            why = what.get(odd[0], "is a shallow clone") if odd else "borrows objects of another repository"
            raise InvalidError(
                f"{self.shown} {why}, and is not read from its folder",
                code="git.layout",
                hint="Link a whole clone of it (git clone --bare --no-local), or reach it by https:// or ssh://.",
            )

    def _missing(self) -> MissingError:
        return MissingError(
            f"{self.shown} is not a repository, or not one that this user may see",
            code="git.missing",
            hint="Look at the folder; a repository without commits is fine.",
        )

    # --- refs ----------------------------------------------------------------------------

    def refs(self) -> dict[str, str]:
        """Full name and object of each branch and tag."""
        self.check()
        with self._in_our_words():
            return self._refs()

    @contextmanager
    def _in_our_words(self) -> Iterator[None]:
        """A step that is a link or not a folder was put there by someone: nothing is read behind it."""
        try:
            yield
        except PermissionError as error:
            raise self._missing() from error
        except OSError as error:
            if error.errno in (errno.ENOSPC, errno.EDQUOT):
                raise StorageError("the disk of the service is full", code="git.disk", hint="Make room.") from error
            raise InvalidError(
                f"{self.shown} has a link, or a file, where a folder of a repository has to be: {error.strerror}",
                code="git.layout",
                hint="Link a whole clone of it (git clone --bare --no-local), or reach it by https:// or ssh://.",
            ) from error

    def _refs(self) -> dict[str, str]:
        found = self._packed()
        for below in ("refs/heads", "refs/tags"):
            for path in files_below(self.root, below):
                if len(found) > _MOST_REFS:
                    raise LimitError(f"{self.shown} has too many branches and tags", code="git.size")
                if not path.endswith(".lock") and (identity := self._resolved(path, found)) is not None:
                    found[path] = identity
        return {name: identity for name, identity in found.items() if name.startswith(("refs/heads/", "refs/tags/"))}

    def _packed(self) -> dict[str, str]:
        data = read_file(self.root, "packed-refs", _MOST_PACKED) or b""
        if len(data) == _MOST_PACKED:
            raise LimitError(f"{self.shown} has too many branches and tags", code="git.size")
        rows = (line.partition(b" ") for line in data.splitlines() if not line.startswith((b"#", b"^")))
        return {name.decode("utf-8", "surrogateescape"): i.decode() for i, _, name in rows if _ID.match(i)}

    def _resolved(self, path: str, packed: dict[str, str]) -> str | None:
        for _ in range(_MOST_LINKS):
            data = (read_file(self.root, path, _MOST_REF) or b"").strip()
            if _ID.match(data):
                return data.decode()
            name = data.removeprefix(b"ref:").strip().decode("utf-8", "surrogateescape")
            if not data.startswith(b"ref:") or not name.startswith("refs/") or ".." in name:
                return packed.get(path)
            path = name
        return None

    def checked_out(self) -> str:
        """The branch that someone works on there; empty in a bare repository."""
        if self.root.name != ".git":
            return ""
        data = (read_file(self.root, "HEAD", _MOST_REF) or b"").strip()
        return data.removeprefix(b"ref:").strip().decode("utf-8", "replace") if data.startswith(b"ref:") else ""

    def require_plain(self) -> None:
        """Return if sending would pass over nothing that its owner has set up to be asked or told."""
        hooks = [name for name in RUN_WHEN_SENT if self._is_program(f"hooks/{name}")]
        settings = read_file(self.root, "config", _PIECE) or b""
        if hooks or re.search(rb"(?im)^\s*hookspath\s*=|^\s*\[\s*include", settings):
            what = f"the hook {hooks[0]}" if hooks else "settings that name other files"
            raise RefusedError(
                f"{self.shown} has {what}, which nothing runs when it is written to by its folder",
                code="git.hooks",
                hint="Link it over ssh:// or https://, where its own server runs them, or let the link fetch only.",
            )

    def _is_program(self, path: str) -> bool:
        try:
            with opened_file(self.root, path) as (file, _):
                return bool(os.fstat(file).st_mode & 0o111)
        except OSError:
            return False

    # --- objects -------------------------------------------------------------------------

    @contextmanager
    def copied(self, below: Path) -> Iterator[Path]:
        """Keep a bare copy in ``below``, with all objects and refs; what was copied before stays."""
        mirror = mirror_of(below, self.folder)
        mirror.parent.mkdir(parents=True, exist_ok=True)
        with mirror.with_suffix(".lock").open("w") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX)
            with Repository.made(mirror) as ours:
                there = self.refs()
                with self._in_our_words():
                    self._copy_objects(mirror)
                _set_refs(ours, there)
            yield mirror

    def _copy_objects(self, mirror: Path) -> None:
        packs = {name for name in names_in(self.root, "objects/pack").files if _PACK.match(name)}
        ours = {path.name: path for path in (mirror / "objects" / "pack").glob("pack-*.pack")}
        for name in sorted(packs - ours.keys()):
            part = mirror / "objects" / "pack" / f"tmp_{name}"
            try:
                self._copy(f"objects/pack/{name}", part)
                run_git(mirror, "index-pack", "--threads=1", "-o", str(part.with_suffix(".idx")), str(part))
                for suffix in (".pack", ".idx"):  # a pack counts once its index is there
                    os.replace(part.with_suffix(suffix), part.with_name(name).with_suffix(suffix))
            finally:
                for left in part.parent.glob(f"tmp_{name[:-5]}*"):
                    left.unlink(missing_ok=True)
        for step in names_in(self.root, "objects").folders:
            for name in names_in(self.root, f"objects/{step}").files if len(step) == 2 else ():
                path = f"objects/{step}/{name}"
                if _LOOSE.match(path) and not (mirror / path).exists():
                    (mirror / "objects" / step).mkdir(exist_ok=True)
                    with contextlib.suppress(FileNotFoundError):  # packed and removed there in the meantime
                        self._copy(path, mirror / path)

    def _copy(self, path: str, target: Path) -> None:
        part = target.with_name(f"tmp_copy_{target.name}")
        try:
            with opened_file(self.root, path) as (file, size), part.open("wb") as ours:
                if shutil.disk_usage(target.parent).free < size + _LEAST_FREE:
                    raise LimitError(
                        f"{self.shown} is too large for the disk of the service",
                        code="git.disk",
                        hint="Make room, or link it by https:// or ssh://.",
                    )
                while piece := os.read(file, _PIECE):
                    ours.write(piece)
            os.replace(part, target)
        finally:
            part.unlink(missing_ok=True)


def mirror_of(below: Path, folder: Path) -> Path:
    """Where the copy of a repository is."""
    name = hashlib.sha256(os.fsencode(folder)).hexdigest()[:32]
    return below / "copies" / name


def forget_mirror(below: Path, folder: Path) -> None:
    """Remove the copy of a repository."""
    mirror = mirror_of(below, folder)
    shutil.rmtree(mirror, ignore_errors=True)
    mirror.with_suffix(".lock").unlink(missing_ok=True)


def _set_refs(ours: Repository, there: dict[str, str]) -> None:
    """Let the copy have the same refs. A name that goes may be in the way of one that comes."""
    here = ours.refs()
    gone = {name: (identity, NO_OBJECT) for name, identity in here.items() if name not in there}
    came = {n: (here.get(n, NO_OBJECT), identity) for n, identity in there.items() if here.get(n) != identity}
    for moves in (gone, came):
        if moves:
            ours.move_refs(moves)
