"""The file system that data tools reach shelves through, by the interface of fsspec."""

from __future__ import annotations

import os
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from fsspec.spec import AbstractFileSystem

from everyshelf.client.client import Client
from everyshelf.client.errors import ProblemError
from everyshelf.client.files.opened import ReadFile, WrittenFile
from everyshelf.client.files.places import SCHEME, Place, place_of, service_address
from everyshelf.client.files.writing import Writing, all_running, running
from everyshelf.client.known import token_for
from everyshelf.client.models import Artifact, Content, Saving
from everyshelf.client.shelf import ShelfClient

_GONE = (404, 410)


class ShelfFileSystem(AbstractFileSystem):  # type: ignore[misc]
    """Files of any shelf at any ref: ``HOST/SHELF@REF/PATH``. Folders kept whole are folders here.

    What is read is the version found when the file was opened, by ranges of its content. What is written goes into the
    person's draft of the branch as a save point, each file when it is closed; in a block of ``writing`` to its commit.
    Written drafts are read back under ``@draft:BRANCH``.

    ``token``: else EVERYSHELF_TOKEN where it is meant for the host, else what ``everyshelf connect`` remembers for it.
    ``secure``: ask by HTTPS; if not given, everywhere but on this machine.
    """

    protocol = "shelf"
    root_marker = ""

    def __init__(
        self, token: str | None = None, secure: bool | None = None, timeout_seconds: float = 60.0, **options: Any
    ) -> None:
        super().__init__(**options)
        self._token = token
        self._secure = secure
        self._timeout_seconds = timeout_seconds
        self._clients: dict[str, Client] = {}
        self._names: dict[tuple[str, str, str], set[str]] = {}
        self._lock = threading.Lock()

    # --- addresses ---------------------------------------------------------

    @classmethod
    def _strip_protocol(cls, path: Any) -> Any:
        if isinstance(path, list):
            return [cls._strip_protocol(one) for one in path]
        return os.fspath(path).removeprefix(SCHEME).strip("/")

    def _place(self, path: str) -> Place:
        place = place_of(self._strip_protocol(path), self._known_names)
        if not place.host:
            raise ValueError("name the host of the service: shelf://HOST/SHELF@REF/PATH")
        return place

    def _known_names(self, host: str, shelf: str, word: str, again: bool) -> set[str]:
        """What a ref of that word can name."""
        key = (host, shelf, word)
        if again or key not in self._names:
            of = self._client(host).shelf(shelf)
            try:
                named: Any = of.tags() if word == "tag" else of.environments() if word == "env" else of.branches()
            except ProblemError as error:
                raise _as_os_error(error, Place(host, shelf)) from error
            self._names[key] = {one.name for one in named}
        return self._names[key]

    def _client(self, host: str) -> Client:
        address = service_address(host, self._secure)
        with self._lock:
            if address not in self._clients:
                token = self._token or token_for(address)
                self._clients[address] = Client(address, token, timeout_seconds=self._timeout_seconds)
            return self._clients[address]

    def _shelf(self, place: Place) -> ShelfClient:
        return self._client(place.host).shelf(place.shelf)

    # --- looking -----------------------------------------------------------

    def ls(self, path: str, detail: bool = True, **_: Any) -> list[Any]:
        """What lies in a folder, of a shelf, or on a host: the shelves one may see."""
        place = self._place(path)
        if not place.shelf:
            shelves = self._client(place.host).shelves()
            found = [_folder(Place(place.host, one.key)) for one in shelves]
        else:
            found = list(self._inside(place).values())
            if not found:
                found = [self._info_of(place)]
        return found if detail else [one["name"] for one in found]

    def _inside(self, place: Place) -> dict[str, dict[str, Any]]:
        """The files and folders right below a place."""
        found: dict[str, dict[str, Any]] = {}
        for file in self._below(place):
            step = file["name"].removeprefix(f"{place.address()}/")
            first, deeper, _ = step.partition("/")
            within = place.below("/".join(part for part in (place.path, first) if part))
            found[first] = _folder(within) if deeper else file
        return found

    def _below(self, place: Place) -> Iterator[dict[str, Any]]:
        """Every file below a place, with what a running block wrote there."""
        work = running(place)
        written = work.now() if work is not None else {}
        under = f"{place.path}/" if place.path else ""
        try:
            for one in self._shelf(place).artifacts(self._ref(place, work), place.path or None, files=True):
                if one.path not in written and one.path.startswith(under):
                    yield _file(place.below(one.path), one)
        except ProblemError as error:
            raise _as_os_error(error, place) from error
        for path, content in written.items():
            if content is not None and path.startswith(under):
                yield _written(place.below(path), content)

    @staticmethod
    def _ref(place: Place, work: Writing | None) -> str | None:
        """What is asked for: in a block, the branch as it was at its begin."""
        return f"commit:{work.base}" if work is not None and work.base else place.ref or None

    def info(self, path: str, **_: Any) -> dict[str, Any]:
        """Name, size in bytes and type of a file or folder; of a file its ``content``, ``version``, ``kind`` too."""
        return self._info_of(self._place(path))

    def _info_of(self, place: Place) -> dict[str, Any]:
        if not place.shelf:
            self._client(place.host).person()
            return _folder(place)
        work = running(place)
        written = work.now() if work is not None else {}
        if place.path in written:
            content = written[place.path]
            if content is None:
                raise FileNotFoundError(f"{SCHEME}{place.address()} was removed in this block")
            return _written(place, content)
        if place.path:
            try:
                found = self._shelf(place).artifact(place.path, self._ref(place, work))
            except ProblemError as error:
                if error.status not in _GONE:
                    raise _as_os_error(error, place) from error
            else:
                return _folder(place) if found.whole else _file(place, found)
        if next(self._below(place), None) is None and place.path:
            raise FileNotFoundError(f"{SCHEME}{place.address()} is not there")
        return _folder(place)

    def find(
        self, path: str, maxdepth: int | None = None, withdirs: bool = False, detail: bool = False, **options: Any
    ) -> Any:
        """Every file below a folder, by one listing; ``maxdepth`` steps down, ``withdirs`` with the folders."""
        place = self._place(path)
        if not place.shelf:
            return super().find(path, maxdepth, withdirs, detail, **options)
        found = {}
        for file in self._below(place):
            steps = file["name"].removeprefix(f"{place.address()}/").split("/")
            if withdirs:
                for depth in range(len(steps) if maxdepth is None else min(len(steps), maxdepth + 1)):
                    one = _folder(place.below("/".join(part for part in (place.path, *steps[:depth]) if part)))
                    found[one["name"]] = one
            if maxdepth is None or len(steps) <= maxdepth:
                found[file["name"]] = file
        if not found:
            found = self._alone(place)
        return {name: found[name] for name in sorted(found)} if detail else sorted(found)

    def _alone(self, place: Place) -> dict[str, Any]:
        """What is at a place that holds no files: a file, or nothing."""
        try:
            one = self._info_of(place)
        except FileNotFoundError:
            return {}
        return {one["name"]: one} if one["type"] == "file" else {}

    def created(self, path: str) -> Any:
        """When the version was recorded."""
        return self.info(path).get("recorded")

    modified = created

    def ukey(self, path: str) -> str:
        """The content's id: whoever caches notices by it that a file is another one."""
        return str(self.info(path).get("content", ""))

    checksum = ukey

    # --- reading -----------------------------------------------------------

    def _open(
        self,
        path: str,
        mode: str = "rb",
        block_size: int | None = None,
        autocommit: bool = True,
        cache_options: dict[str, Any] | None = None,
        **options: Any,
    ) -> Any:
        place = self._place(path)
        if mode != "rb":
            return self._opened_for_writing(place, mode, autocommit)
        details = self._info_of(place)
        if details["type"] == "directory":
            raise IsADirectoryError(f"{SCHEME}{place.address()} is a folder")
        for work in all_running():
            if "artifact" in details:
                work.note_read(place, details["artifact"])
        cache = options.pop("cache_type", "readahead")
        options = {"cache_type": cache, "cache_options": cache_options, **options}
        shelf = self._shelf(place)
        return ReadFile(
            self,
            place.address(),
            details,
            lambda start, stop: shelf.content(details["content"], start=start, stop=stop),
            block_size=block_size or "default",
            **options,
        )

    def cat_file(self, path: str, start: int | None = None, end: int | None = None, **_: Any) -> bytes:
        """A file's bytes, or a range of them, by one request; negative places count from the end."""
        with self.open(path, cache_type="none") as file:
            first, last = _counted(start, file.size, 0), _counted(end, file.size, file.size)
            return bytes(file._fetch_range(first, last))

    # --- writing -----------------------------------------------------------

    def _opened_for_writing(self, place: Place, mode: str, autocommit: bool) -> WrittenFile:
        if not place.path or mode.rstrip("b") not in ("w", "a", "x"):
            raise ValueError(f"{SCHEME}{place.address()} cannot be opened with the mode {mode}")
        changed = self._changed(place)
        is_there = mode[0] in "ax" and self._has(changed)
        if mode[0] == "x" and is_there:
            raise FileExistsError(f"{SCHEME}{place.address()} is there already")
        start = self.cat_file(changed.address()) if mode[0] == "a" and is_there else b""
        return WrittenFile(lambda file: self._keep(place, file), start, autocommit=autocommit)

    def _has(self, place: Place) -> bool:
        try:
            return bool(self._info_of(place)["type"] == "file")
        except FileNotFoundError:
            return False

    def _branch_of(self, place: Place) -> str:
        """The branch whose draft a place is written to; raises ``PermissionError`` for a state that stays as it is."""
        word, colon, rest = place.ref.partition(":")
        if (colon and word != "draft") or "@" in rest:
            raise PermissionError(
                f"{place.ref} cannot be written to: name a branch, or draft:BRANCH, behind the @ of the address"
            )
        if place.ref and not colon and place.ref != "draft":
            return place.ref
        return rest or self._shelf(place).info().main_branch

    def _changed(self, place: Place) -> Place:
        """Where a change to a place begins: at what was written there before, in the draft or in the block."""
        branch = self._branch_of(place)
        return place if running(place) is not None else Place(place.host, place.shelf, f"draft:{branch}", place.path)

    def _keep(self, place: Place, file: Path) -> None:
        shelf = self._shelf(place)
        try:
            content = shelf.upload(file)
            self._save(place, [(place.path, content, "")])
        except ProblemError as error:
            raise _as_os_error(error, place) from error

    def _save(self, place: Place, changes: list[tuple[str, Content | None, str]]) -> None:
        """Give changes to the block that runs on the branch, or to the draft."""
        work = running(place)
        if work is not None:
            for path, content, moved_from in changes:
                work.keep(path, content, moved_from)
            return
        entries = [Saving(path, content.id if content else None, moved_from) for path, content, moved_from in changes]
        self._shelf(place).save(self._branch_of(place), entries)

    def _rm(self, path: str) -> None:
        self.rm(path)

    def rm_file(self, path: str) -> None:
        """Remove a file, in the draft or the block."""
        self.rm(path)

    def rm(self, path: Any, recursive: bool = False, maxdepth: int | None = None) -> None:
        """Remove files, or what lies in folders, each folder with one save point."""
        for one in path if isinstance(path, list) else [path]:
            place = self._changed(self._place(one))
            details = self._info_of(place)
            if details["type"] == "directory" and not recursive:
                raise IsADirectoryError(f"{SCHEME}{place.address()} is a folder: remove it with recursive=True")
            below = self._below(place) if details["type"] == "directory" else iter([details])
            gone = [self._place(file["name"]).path for file in below]
            try:
                self._save(place, [(name, None, "") for name in gone])
            except ProblemError as error:
                raise _as_os_error(error, place) from error

    def cp_file(self, path1: str, path2: str, **_: Any) -> None:
        """Copy a file; on one shelf no byte is sent."""
        self._copied(path1, path2, moved=False)

    def mv(self, path1: str, path2: str, recursive: bool = False, maxdepth: int | None = None, **options: Any) -> None:
        """Move a file; its history goes with it where it stays on the branch."""
        first, second = self._place(path1), self._place(path2)
        same = (first.host, first.shelf, self._branch_of(first)) == (second.host, second.shelf, self._branch_of(second))
        first = self._changed(first)
        if not same or self._info_of(first)["type"] == "directory":
            super().mv(first.address(), path2, recursive, maxdepth, **options)
            return
        self._copied(first.address(), path2, moved=True)

    def _copied(self, path1: str, path2: str, *, moved: bool) -> None:
        first, second = self._place(path1), self._place(path2)
        details = self._info_of(first)
        if details["type"] == "directory":
            return
        self._branch_of(second)
        if (first.host, first.shelf) != (second.host, second.shelf):
            with self.open(path1) as source, self.open(path2, "wb") as target:
                for piece in iter(lambda: source.read(1 << 20), b""):
                    target.write(piece)
            return
        content = Content(details["content"], details["size"])
        changes: list[tuple[str, Content | None, str]] = [(second.path, content, "")]
        if moved:
            origin, reset = self._start_of(first)
            changes = [*reset, (second.path, content, origin)]
        try:
            self._save(second, changes)
        except ProblemError as error:
            raise _as_os_error(error, second) from error

    def _start_of(self, place: Place) -> tuple[str, list[tuple[str, Content | None, str]]]:
        """Where the history of a file that is moved comes from, and what has to be saved at its old path: what a draft
        holds there goes along, and leaves nothing behind."""
        if running(place) is not None:
            return place.path, []
        shelf, branch = self._shelf(place), self._branch_of(place)
        draft = next((one for one in shelf.drafts() if one.branch == branch), None)
        entry = next((one for one in draft.entries if one.path == place.path), None) if draft is not None else None
        if draft is None or entry is None:
            return place.path, []
        try:
            held = shelf.artifact(place.path, f"commit:{draft.base}" if draft.base else branch)
        except ProblemError as error:
            if error.status not in _GONE:
                raise
            return entry.moved_from, [(place.path, None, "")]
        return place.path, [(place.path, Content(held.content, held.size), "")]

    def mkdir(self, path: str, create_parents: bool = True, **_: Any) -> None:
        """Nothing to do: a folder is there once a file lies in it."""

    def makedirs(self, path: str, exist_ok: bool = False) -> None:
        """Nothing to do, as with ``mkdir``."""

    def rmdir(self, path: str) -> None:
        """Nothing to do: a folder goes with its last file."""


def _counted(given: int | None, size: int, otherwise: int) -> int:
    if given is None:
        return otherwise
    return max(0, size + given) if given < 0 else min(given, size)


def _folder(place: Place) -> dict[str, Any]:
    return {"name": place.address(), "size": 0, "type": "directory"}


def _file(place: Place, found: Artifact) -> dict[str, Any]:
    told = {"content": found.content, "version": found.version, "kind": found.kind, "recorded": found.recorded}
    return {"name": place.address(), "size": found.size, "type": "file", **told, "artifact": found}


def _written(place: Place, content: Content) -> dict[str, Any]:
    """A file that a block wrote: it is a version only once it is committed."""
    told = {"content": content.id, "version": None, "kind": "", "recorded": None}
    return {"name": place.address(), "size": content.size, "type": "file", **told}


def _as_os_error(error: ProblemError, place: Place) -> OSError:
    """What tools expect: what is missing and what may not be written have errors of their own."""
    kind = FileNotFoundError if error.status in _GONE else PermissionError if error.status in (401, 403) else OSError
    return kind(f"{SCHEME}{place.address()}: {error.message} {error.hint}".strip())
