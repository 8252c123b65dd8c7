"""What a change in the network folder means for a draft."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from everyshelf.core.content.store import ContentInfo
from everyshelf.core.errors import LimitError, RefusedError
from everyshelf.core.history.trees import Entry
from everyshelf.service.base.acts import aside, one_act
from everyshelf.service.base.config import get_config
from everyshelf.service.base.context import get_store, get_trees
from everyshelf.service.base.room import require_room
from everyshelf.service.dav.models import EmptyFolder
from everyshelf.service.drafts.actions import Saving, save
from everyshelf.service.drafts.models import Draft
from everyshelf.service.rights import Caller, require, require_scope
from everyshelf.service.shelves.actions.contents import hold
from everyshelf.service.shelves.actions.refs import resolve
from everyshelf.service.shelves.models import Shelf


@dataclass(frozen=True)
class DraftFolder:
    """A person's draft of a branch as a folder that can be written to."""

    caller: Caller
    shelf: Shelf
    branch: str

    @property
    def root(self) -> str:
        """The state of the draft now."""
        return resolve(self.shelf, f"draft:{self.branch}", self.caller.person).root

    def find(self, path: str) -> Entry | None:
        """What lies at a path of it now."""
        return get_trees().find(self.root, path)

    def may_write(self) -> None:
        """Raise ``RefusedError`` unless its person may save, by role and by token."""
        require_scope(self.caller, "write")
        require(self.caller, self.shelf, "commit")

    def put(self, path: str, content: str) -> None:
        """Save a content at a path."""
        self._save([Saving(path, content)])

    def delete(self, path: str) -> None:
        """Take a file, or all below a folder, away."""
        self._save([Saving(one, None) for one, _ in self._below(path)])
        self._forget_folders(path)

    def copy(self, source: Iterator[tuple[str, Entry]], target: str) -> None:
        """Save files, given with their paths below the source (empty for a file itself), at or below ``target``; what
        lay there and is not among them goes."""
        wanted = {f"{target}/{inside}" if inside else target: entry for inside, entry in source}
        gone = [path for path, _ in self._below(target) if path not in wanted]
        self.may_write()
        with aside():  # they may come from another shelf, which the person can read
            hold(self.shelf, {entry.id: entry.size for entry in wanted.values()})
        self._save([Saving(path, None) for path in gone] + [Saving(p, e.id) for p, e in wanted.items()])

    def move(self, path: str, target: str) -> None:
        """Move a file, or a folder with all that is in it. What the base has, and nothing is put in the place of, is
        recorded as moved; the rest is saved there and taken away here."""
        draft = self._draft()
        base = draft.base.root if draft is not None and draft.base is not None else self._head_root()
        saved, removed, replaced = [], [], {one for one, _ in self._below(target)}
        moving = self._below(path)
        kept = [one for one, entry in moving if entry.type == "whole"]
        if kept:
            raise _refused(f"{kept[0]} is a folder that is kept whole")
        for one, entry in moving:
            to = target + one[len(path) :]
            was_there = get_trees().find(base, one)
            if was_there is not None and to not in replaced and get_trees().find(base, to) is None:
                saved.append(Saving(to, entry.id, moved_from=one))
            else:
                saved.append(Saving(to, entry.id))
                removed.append(Saving(one, None))
            replaced.discard(to)
        self._save([Saving(one, None) for one in replaced] + removed + saved)
        self._forget_folders(path)

    def make_folder(self, path: str) -> None:
        """Note that there is a folder, with nothing in it yet."""
        self.may_write()
        with one_act():
            draft, _ = Draft.objects.get_or_create(
                person=self.caller.person, shelf=self.shelf, branch=self.branch, defaults={"base": self._head()}
            )
            EmptyFolder.objects.get_or_create(draft=draft, path=path)

    def empty_folders(self, below: str) -> set[str]:
        """Names of folders made in a folder, whether or not something lies in them by now."""
        draft = self._draft()
        if draft is None:
            return set()
        prefix = f"{below}/" if below else ""
        rows = EmptyFolder.objects.filter(draft=draft, path__startswith=prefix).values_list("path", flat=True)
        return {path[len(prefix) :].partition("/")[0] for path in rows if path.startswith(prefix)}

    def has_folder(self, path: str) -> bool:
        """Return whether a folder was made there."""
        name = path.rpartition("/")[2]
        return name in self.empty_folders(path.rpartition("/")[0])

    def _below(self, path: str) -> list[tuple[str, Entry]]:
        """Path and entry of each file at or below a path."""
        entry = self.find(path)
        if entry is None:
            return []
        return list(get_trees().walk(entry.id, f"{path}/")) if entry.type == "folder" else [(path, entry)]

    def _save(self, wanted: list[Saving]) -> None:
        self.may_write()
        paths = [path for one in wanted for path in (one.path, one.moved_from) if path]
        whole = [path for path in paths if self._is_inside_whole(path)]
        if whole:
            raise _refused(f"{whole[0]} lies in a folder that is kept whole")
        if wanted:
            save(self.caller, self.shelf, self.branch, None, wanted)

    def _is_inside_whole(self, path: str) -> bool:
        return get_trees().whole_above(self.root, path) is not None

    def _forget_folders(self, path: str) -> None:
        draft = self._draft()
        if draft is not None:
            with aside():
                rows = EmptyFolder.objects.filter(draft=draft)  # compared here: the database takes a for A
                gone = [row for row, made in rows.values_list("pk", "path") if f"{made}/".startswith(f"{path}/")]
                rows.filter(pk__in=gone).delete()

    def _draft(self) -> Draft | None:
        drafts = Draft.objects.select_related("base")
        return drafts.filter(person=self.caller.person, shelf=self.shelf, branch=self.branch).first()

    def _head(self) -> Any:
        return self.shelf.branches.select_related("head").get(name=self.branch).head

    def _head_root(self) -> str:
        head = self._head()
        return head.root if head is not None else get_trees().empty


def _refused(what: str) -> RefusedError:
    return RefusedError(what, code="draft.whole", hint="Change it on a desk (everyshelf take), and commit it there.")


class Incoming:
    """A file that is being written; what was written counts when it is whole (``keep``)."""

    def __init__(self, folder: DraftFolder, path: str) -> None:
        folder.may_write()
        require_room()
        self._folder, self._path = folder, path
        self._writer = get_store().writer()

    def write(self, data: bytes) -> None:
        """Take the next bytes."""
        self._writer.write(bytes(data))
        limit = get_config().max_upload_bytes
        if self._writer.size > limit:
            raise LimitError(f"the file is larger than the {limit} bytes this service takes", code="content.too_large")

    def close(self) -> None:
        """Nothing: ``keep`` says that it is whole."""

    def keep(self) -> ContentInfo:
        """Save it in the draft."""
        info = self._writer.finish()
        get_store().sync()
        with aside():
            hold(self._folder.shelf, {info.id: info.size})
        self._folder.put(self._path, info.id)
        return info
