"""States of a side whose files are unfolded: laid out from what the shelf has, and folded again.

``plain`` is the state with every file as it is on the shelf, ``root`` the same with the parts of files beside them or
instead of them. Both ways only what changed is looked at.

- A file that changed on the shelf gets its parts laid out new, unless those that are there say the same.
- Parts that changed in Git are folded. Where the file was changed there as well, the two are merged by meaning.
- Parts that cannot be folded stay there as they are, and the file stays as it was, until they can.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from everyshelf.core.history.trees import Entry
from everyshelf.core.unfolding import FOLDER_SUFFIX, MANIFEST
from everyshelf.service.base.context import get_trees
from everyshelf.service.exchange.actions.file_parts import folded, folder_name, merged, not_named, unfolded
from everyshelf.service.exchange.models import GitLink, SideState
from everyshelf.service.shelves.models import Commit

_TOLD = 3


@dataclass(frozen=True)
class Laid:
    """A state of a side; its fields are those of ``SideState``."""

    root: str
    plain: str
    parts: str = ""
    apart: Mapping[str, str] = field(default_factory=dict)

    @property
    def is_level(self) -> bool:
        """Whether files and parts say the same, as far as they can."""
        return all(self.apart.values())


def state_of(side: Commit) -> Laid:
    """What a commit of a side says."""
    row = SideState.objects.filter(side=side).first()
    return Laid(side.root, row.plain, row.parts, row.apart) if row is not None else Laid(side.root, side.root)


def keep_states(states: Iterable[tuple[Commit, Laid]]) -> None:
    """Record what commits of a side say."""
    rows = [
        SideState(side=side, plain=laid.plain, parts=laid.parts, apart=dict(laid.apart))
        for side, laid in states
        if laid.parts or laid.plain != laid.root
    ]
    SideState.objects.bulk_create(rows, batch_size=500)


@dataclass
class _Files:
    """Paths that belong to the part of the shelf that a link is about, and those that belong to parts of a file."""

    link: GitLink

    def has(self, path: str) -> bool:
        """Whether a path is below the place of the link."""
        place = self.link.place
        return (
            not place or path in (place, folder_name(place)) or path.startswith((f"{place}/", f"{folder_name(place)}/"))
        )

    @staticmethod
    def of_parts(path: str) -> str | None:
        """Return the file whose parts would be at ``path``; None if ``path`` is not in a folder of parts."""
        names = path.split("/")
        for depth, name in enumerate(names):
            if name.endswith(FOLDER_SUFFIX) and len(name) > len(FOLDER_SUFFIX):
                return "/".join([*names[:depth], name.removesuffix(FOLDER_SUFFIX)])
        return None


# --- out ---------------------------------------------------------------------------------


def lay(link: GitLink, plain: str, near: Laid, parts: str) -> Laid:
    """The state with everything as in ``plain``, laid out as ``parts`` says; ``near``: a state like it."""
    if not parts and near.root == near.plain:
        return Laid(plain, plain)
    trees, files = get_trees(), _Files(link)
    changes: dict[str, Entry | None] = {}
    touched = {path for path, why in near.apart.items() if not why}
    for change in trees.changes(near.plain, plain):
        if not files.has(change.path):
            changes[change.path] = change.after
        else:
            touched.add(files.of_parts(change.path) or change.path)
    if parts != near.parts:
        touched |= {path for path, _ in trees.walk(plain) if files.has(path) and files.of_parts(path) is None}
    entries = {path: _file_at(plain, path) for path in sorted(touched)}
    own = {path: trees.find(plain, folder_name(path)) for path in entries}
    wanted = {
        path: entry
        for path, entry in entries.items()
        if parts and own[path] is None and entry is not None and entry.type == "artifact"
    }
    laid_out = unfolded((_name(path), entry) for path, entry in wanted.items())
    apart = {path: why for path, why in near.apart.items() if path not in touched}
    for path, entry in entries.items():
        fresh = laid_out[_name(path), wanted[path].id] if path in wanted else None
        if fresh is not None:
            there = _parts_at(near, path)
            fresh = _kept(link, path, wanted[path], there, fresh, apart) if there is not None else fresh
        changes[path] = None if fresh is not None and parts == "instead" else entry
        folder = fresh or own[path]
        if folder is not None or trees.find(near.root, folder_name(path)) is not None:
            changes[folder_name(path)] = folder
    return Laid(trees.apply(near.root, changes), plain, parts, apart)


def _kept(link: GitLink, path: str, entry: Entry, there: Entry, fresh: Entry, apart: dict[str, str]) -> Entry:
    """The parts that are there if they say what the file says; else new ones, with what people laid beside them."""
    found, notes = folded(link.shelf, _name(path), there)
    if found is not None and found.id == entry.id:
        if notes:
            apart[path] = _told(path, notes)
        return there
    left = not_named(there)
    if not left:
        return fresh
    trees = get_trees()
    known = {inner for inner, _ in trees.files(fresh.id)}
    more: dict[str, Entry | None] = {inner: one for inner, one in left.items() if inner not in known}
    return trees.parted(fresh.name, trees.apply(fresh.id, more))


# --- back --------------------------------------------------------------------------------


def fold_back(link: GitLink, root: str, before: Laid) -> tuple[Laid, dict[str, Entry]]:
    """The state of ``root``, which follows on ``before``; and by path what a file would be where it and its parts were
    changed and do not go together: then the file counts."""
    if not link.parts and not before.parts:
        return Laid(root, root), {}
    trees, files = get_trees(), _Files(link)
    changes: dict[str, Entry | None] = {}
    touched: set[str] = set()
    for change in trees.changes(before.root, root):
        file = files.of_parts(change.path) if files.has(change.path) else None
        if file is not None and _has_parts(file, root, before):
            touched.add(file)
        elif file is None and files.has(change.path):
            touched.add(change.path)
        else:
            changes[change.path] = change.after
    apart = {path: why for path, why in before.apart.items() if path not in touched}
    clashes: dict[str, Entry] = {}
    for path in sorted(touched):
        one = _File(link, path, root, before)
        changes[path] = one.folded()
        if one.clash is not None:
            clashes[path] = one.clash
        why = one.why()
        if why or (why is not None and before.parts and link.way != "fetch"):
            apart[path] = why
    plain = trees.apply(before.plain, changes)
    return Laid(root, plain, before.parts, apart), clashes


def _has_parts(file: str, root: str, before: Laid) -> bool:
    """Whether what lies in the folder of this name is the parts of the file, and not a folder of the shelf."""
    trees, folder = get_trees(), folder_name(file)
    at = trees.find(before.plain, file)
    if trees.find(before.plain, folder) is not None or (at is not None and at.type != "artifact"):
        return False
    return trees.find(before.root, folder) is not None or trees.find(root, f"{folder}/{MANIFEST}") is not None


def _file_at(root: str, path: str) -> Entry | None:
    found = get_trees().find(root, path)
    return None if found is not None and found.type == "folder" else found


def _parts_at(state: Laid, path: str) -> Entry | None:
    """The parts of a file in a state of the side."""
    trees, folder = get_trees(), folder_name(path)
    found = trees.find(state.root, folder)
    is_parts = found is not None and found.type != "artifact" and trees.find(state.plain, folder) is None
    return found if is_parts else None


class _File:
    """A file, its parts, and both as they were before, in a state that came from Git."""

    def __init__(self, link: GitLink, path: str, root: str, before: Laid) -> None:
        trees = get_trees()
        self._link, self._path, self._name = link, path, _name(path)
        self._instead = (before.parts or link.parts) == "instead"
        self._known = _file_at(before.plain, path)
        self._old, self._new = _file_at(before.root, path), _file_at(root, path)
        self._old_parts = _parts_at(before, path)
        found = trees.find(root, folder_name(path))
        has_parts = found is not None and found.type != "artifact" and _has_parts(path, root, before)
        self._parts = found if has_parts else None
        self._result: Entry | None = None
        self._says: Entry | None = None  # what the parts fold to, where they were looked at
        self._notes: list[str] = []
        self.clash: Entry | None = None

    def folded(self) -> Entry | None:
        """The file as the shelf gets it."""
        self._result = self._folded()
        return self._result

    def _folded(self) -> Entry | None:
        file_changed = self._old != self._new
        if _id(self._parts) == _id(self._old_parts):
            came = self._new is not None or not self._instead or self._parts is None
            return self._new if file_changed and came else self._known
        if self._parts is None:
            return self._new if file_changed or self._new is None else self._known
        self._says, self._notes = folded(self._link.shelf, self._name, self._parts)
        if self._says is None:
            return self._new if file_changed and self._new is not None else self._known
        if file_changed and self._new is not None:
            return self._both(self._new, self._says)
        if file_changed or self._known is None:
            return self._says
        return self._both(self._known, self._says)

    def _both(self, file: Entry, parts: Entry) -> Entry:
        """What a file and its parts come to; ``base``: what the parts said before."""
        if file.id == parts.id:
            return file
        base = folded(self._link.shelf, self._name, self._old_parts)[0] if self._old_parts is not None else self._known
        if base is not None and base.id == file.id:
            return parts
        if base is not None and base.id == parts.id:
            return file
        found = merged(self._link.shelf, self._name, (base, file, parts))
        if found is None:
            self.clash = parts
        return found or file

    def why(self) -> str | None:
        """Why the file and its parts are not alike in Git: an empty text where they can be; None if they are."""
        if self._notes:
            return _told(self._path, self._notes)
        if _id(self._parts) != _id(self._old_parts) and self._parts is not None:
            says = _id(self._says) == _id(self._result)
        else:
            says = self._parts is None and self._result is None
        here = self._new is None if self._instead else _id(self._new) == _id(self._result)
        return None if says and here else ""


def _told(path: str, notes: Iterable[str]) -> str:
    return f"{folder_name(path)}: {'; '.join(list(notes)[:_TOLD])}"


def _id(entry: Entry | None) -> str | None:
    return entry.id if entry is not None else None


def _name(path: str) -> str:
    return path.rpartition("/")[2]
