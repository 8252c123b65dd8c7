"""What lies where in the network folder."""

from __future__ import annotations

import functools
import mimetypes
from collections.abc import Callable
from typing import Any, ParamSpec, TypeVar

from wsgidav.dav_error import HTTP_FORBIDDEN, DAVError, PRECONDITION_CODE_PropfindFiniteDepth
from wsgidav.dav_provider import DAVCollection, DAVNonCollection, DAVProvider

from everyshelf.core.content.content_file import ContentFile
from everyshelf.core.errors import EveryShelfError, InvalidError, MissingError
from everyshelf.core.history.paths import check_path
from everyshelf.core.history.trees import Entry
from everyshelf.service.base.context import get_store, get_trees
from everyshelf.service.dav.writing import DraftFolder, Incoming
from everyshelf.service.problems import status_of
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.refs import Resolved, resolve
from everyshelf.service.shelves.actions.selecting import as_selected
from everyshelf.service.shelves.actions.shelves import get_shelf, visible_shelves
from everyshelf.service.shelves.models import Shelf

P = ParamSpec("P")
T = TypeVar("T")
CALLER = "everyshelf.caller"
_BRANCHES, _TAGS, _DRAFT = "branches", "tags", "draft"
# What file managers put beside files for themselves; an analyst does not want it versioned.
_OWN_FILES = (".DS_Store", "Thumbs.db", "desktop.ini", ".Trashes", ".Spotlight-V100", ".fseventsd")


def as_dav_error(error: EveryShelfError) -> DAVError:
    """The same for the protocol: the status, and what happened with what to do next."""
    return DAVError(status_of(error), f"{error.message}. {error.hint}".strip())


def _told(method: Callable[P, T]) -> Callable[P, T]:
    """Errors of ours as those of the protocol: it knows no others, and takes them for mistakes of the server."""

    @functools.wraps(method)
    def wrapped(*args: P.args, **kwargs: P.kwargs) -> T:
        try:
            return method(*args, **kwargs)
        except EveryShelfError as error:
            raise as_dav_error(error) from error

    return wrapped


def folder_name(ref_name: str) -> str:
    """A branch or tag as one folder."""
    return ref_name.replace("/", "~")


def ref_name(folder: str) -> str:
    """The branch or tag of a folder."""
    return folder.replace("~", "/")


class _OneLevel(DAVCollection):  # type: ignore[misc]
    """A folder that is listed level by level: all of a shelf at once would keep the service busy."""

    def get_descendants(self, *args: Any, **options: Any) -> Any:
        """As asked for, unless that is a listing of everything (RFC 4918, 9.1)."""
        if options.get("depth") == "infinity" and self.environ["REQUEST_METHOD"] == "PROPFIND":
            raise DAVError(HTTP_FORBIDDEN, err_condition=PRECONDITION_CODE_PropfindFiniteDepth)
        return super().get_descendants(*args, **options)


class State:
    """A state of a shelf: a branch, a tag, or a draft, which can be written to."""

    def __init__(self, resolved: Resolved, draft: DraftFolder | None) -> None:
        self.root = resolved.root
        self.changed = resolved.commit.recorded.timestamp() if resolved.commit is not None else None
        self.draft = draft


class _Fixed(_OneLevel):
    """A folder whose members are what there is: shelves, branches, tags."""

    def __init__(self, path: str, environ: dict[str, Any], names: list[str]) -> None:
        super().__init__(path, environ)
        self._names = names

    def get_member_names(self) -> list[str]:
        """Their names."""
        return self._names

    def prevent_locking(self) -> bool:
        """Nothing is written here."""
        return True


class _OfState:
    """What files and folders of a state have in common."""

    _state: State
    _inside: str
    environ: dict[str, Any]

    def get_last_modified(self) -> float | None:
        """Return when the state was committed."""
        return self._state.changed

    def prevent_locking(self) -> bool:
        """Return whether it was committed: then it is not written to."""
        return self._state.draft is None

    @_told
    def handle_delete(self) -> bool:
        """Take it away, with all that is in it."""
        _draft_of(self._state).delete(self._inside)
        self.remove_all_locks(recursive=True)  # type: ignore[attr-defined]
        return True

    @_told
    def handle_move(self, dest_path: str) -> bool:
        """Move it within its draft."""
        draft = _draft_of(self._state)
        target, inside = _target(self.environ, dest_path)
        if (target.shelf.pk, target.branch) != (draft.shelf.pk, draft.branch):
            raise DAVError(HTTP_FORBIDDEN, "a file is moved within one draft; copy it instead")
        draft.move(self._inside, inside)
        self.remove_all_locks(recursive=True)  # type: ignore[attr-defined]
        return True


class StateFolder(_OfState, _OneLevel):
    """A folder of a state. ``node`` is None for one that was made in a draft and holds nothing yet."""

    def __init__(self, path: str, environ: dict[str, Any], state: State, inside: str, node: str | None) -> None:
        super().__init__(path, environ)
        self._state, self._inside, self._node = state, inside, node

    def _below(self, name: str) -> str:
        return f"{self._inside}/{name}" if self._inside else name

    @_told
    def get_member_names(self) -> list[str]:
        """Files and folders in it, and folders made in a draft."""
        names = {entry.name for entry in get_trees().entries(self._node)} if self._node is not None else set()
        if self._state.draft is not None:
            names |= self._state.draft.empty_folders(self._inside)
        return sorted(names)

    @_told
    def get_member_list(self) -> list[Any]:
        """The same, each without a look from the top."""
        entries = {entry.name: entry for entry in get_trees().entries(self._node)} if self._node is not None else {}
        return [
            _of_entry(self._join(name), self.environ, self._state, self._below(name), entries.get(name))
            for name in self.get_member_names()
        ]

    def _join(self, name: str) -> str:
        return f"{self.path.rstrip('/')}/{name}"

    @_told
    def create_empty_resource(self, name: str) -> StateFile:
        """A file that is about to be written; nothing is saved before it is. A name that is locked before anything lies
        there becomes an empty file (RFC 4918, 7.3)."""
        draft, inside = self._writable(name), self._below(name)
        made = StateFile(self._join(name), self.environ, self._state, inside, None)
        if self.environ["REQUEST_METHOD"] == "LOCK":
            Incoming(draft, inside).keep()
        return made

    @_told
    def create_collection(self, name: str) -> None:
        """Make a folder."""
        self._writable(name).make_folder(self._below(name))

    def _writable(self, name: str) -> DraftFolder:
        if name in _OWN_FILES or name.startswith("._"):
            raise DAVError(HTTP_FORBIDDEN, "what a file manager keeps for itself is not taken")
        check_path(self._below(name))
        return _draft_of(self._state)

    @_told
    def handle_copy(self, dest_path: str, *, depth_infinity: bool) -> bool:
        """Save what is in it at another place of a draft."""
        target, inside = _target(self.environ, dest_path)
        target.make_folder(inside)
        if depth_infinity and self._node is not None:
            target.copy(get_trees().files(self._node), inside)
        return True


class StateFile(_OfState, DAVNonCollection):  # type: ignore[misc]
    """A file of a state; ``entry`` is None for one that is about to be written."""

    def __init__(self, path: str, environ: dict[str, Any], state: State, inside: str, entry: Entry | None) -> None:
        super().__init__(path, environ)
        self._state, self._inside, self._entry = state, inside, entry
        self._incoming: Incoming | None = None

    def get_content_length(self) -> int:
        """Bytes."""
        return self._entry.size if self._entry is not None else 0

    def get_content_type(self) -> str:
        """By the name."""
        return mimetypes.guess_type(self._inside)[0] or "application/octet-stream"

    def get_etag(self) -> str | None:
        """The content's id: what is the same has the same everywhere."""
        return self._entry.id if self._entry is not None else None

    def support_etag(self) -> bool:
        """Always."""
        return True

    def support_ranges(self) -> bool:
        """Always."""
        return True

    @_told
    def get_content(self) -> ContentFile:
        """The bytes, with seeking."""
        if self._entry is None:
            raise DAVError(HTTP_FORBIDDEN, "nothing was written yet")
        return ContentFile(get_store(), self._entry.id)

    @_told
    def begin_write(self, *, content_type: str | None = None) -> Incoming:
        """Take new bytes."""
        self._incoming = Incoming(_draft_of(self._state), self._inside)
        return self._incoming

    @_told
    def end_write(self, *, with_errors: bool) -> None:
        """Save them, unless something went wrong."""
        if self._incoming is not None and not with_errors:
            kept = self._incoming.keep()
            self._entry = Entry(self._inside.rpartition("/")[2], "artifact", kept.id, kept.size)
        self._incoming = None

    def set_last_modified(self, dest_path: str, time_stamp: str, *, dry_run: bool) -> bool:
        """Programs set it after writing; a draft has its own times."""
        return True

    @_told
    def handle_copy(self, dest_path: str, *, depth_infinity: bool) -> bool:
        """Save it at another place of a draft."""
        target, inside = _target(self.environ, dest_path)
        if self._entry is not None:
            target.copy(iter([("", self._entry)]), inside)
        return True


def _draft_of(state: State) -> DraftFolder:
    if state.draft is None:
        raise DAVError(HTTP_FORBIDDEN, "what was committed is not written to; write below draft/")
    return state.draft


def _target(environ: dict[str, Any], path: str) -> tuple[DraftFolder, str]:
    """The draft, and the path in it, to which something is to be copied or moved."""
    shelf, area, ref, inside = (path.strip("/").split("/", 3) + [""] * 4)[:4]
    if area != _DRAFT or not inside:
        raise DAVError(HTTP_FORBIDDEN, "files are written below draft/ only")
    caller: Caller = environ[CALLER]
    check_path(inside)
    return DraftFolder(caller, get_shelf(caller, shelf), ref_name(ref)), inside


def _of_entry(path: str, environ: dict[str, Any], state: State, inside: str, entry: Entry | None) -> Any:
    if entry is None:
        return StateFolder(path, environ, state, inside, None)
    if entry.type == "artifact":
        return StateFile(path, environ, state, inside, entry)
    return StateFolder(path, environ, state, inside, entry.id)


class ShelfFolders(DAVProvider):  # type: ignore[misc]
    """All of it."""

    @_told
    def get_resource_inst(self, path: str, environ: dict[str, Any]) -> Any:
        """What lies at a path, or None."""
        try:
            return self._look(path, environ)
        except (MissingError, InvalidError):
            return None

    def _look(self, path: str, environ: dict[str, Any]) -> Any:
        caller: Caller = environ[CALLER]
        parts = [part for part in path.split("/") if part]
        if not parts:
            return _Fixed("/", environ, [shelf.key for shelf in visible_shelves(caller)])
        shelf = get_shelf(caller, parts[0])
        if len(parts) == 1:
            return _Fixed(path, environ, [_BRANCHES, _TAGS, _DRAFT])
        if parts[1] not in (_BRANCHES, _TAGS, _DRAFT):
            return None
        if len(parts) == 2:
            return _Fixed(path, environ, [folder_name(name) for name in _names(shelf, parts[1])])
        state = self._state(environ, caller, shelf, parts[1], ref_name(parts[2]))
        return self._inside(path, environ, state, "/".join(parts[3:]))

    @staticmethod
    def _state(environ: dict[str, Any], caller: Caller, shelf: Shelf, area: str, name: str) -> State:
        if area == _DRAFT:
            if not shelf.branches.filter(name=name).exists():
                _missing(name)
            draft = DraftFolder(caller, shelf, name)
            return State(resolve(shelf, f"draft:{name}", caller.person), draft)
        if name not in _names(shelf, area):
            _missing(name)
        return State(as_selected(shelf, resolve(shelf, f"tag:{name}" if area == _TAGS else name)), None)

    @staticmethod
    def _inside(path: str, environ: dict[str, Any], state: State, inside: str) -> Any:
        if not inside:
            return StateFolder(path, environ, state, "", state.root)
        entry = get_trees().find(state.root, inside)
        if entry is None and (state.draft is None or not state.draft.has_folder(inside)):
            return None
        return _of_entry(path, environ, state, inside, entry)


def _missing(name: str) -> None:
    raise MissingError(f"no branch or tag {name!r}", code="ref.invalid")


def _names(shelf: Shelf, area: str) -> list[str]:
    rows = shelf.tags if area == _TAGS else shelf.branches
    return sorted(rows.values_list("name", flat=True))
