"""One artifact's file as an entry of a Git tree, and back."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from everyshelf.core.content.store import ContentStore
from everyshelf.core.errors import InvalidError
from everyshelf.core.history.paths import check_path
from everyshelf.core.history.trees import Entry, Trees
from everyshelf.gitside import notes
from everyshelf.gitside.notes import ContentNote
from everyshelf.gitside.objects import FILE, LINK, SUBMODULE, GitEntry, object_id
from everyshelf.gitside.repository import Repository
from everyshelf.gitside.settings import MappingSettings

FileChange = tuple["Entry | None", "Entry | None"]
Held = Callable[[str], int | None]
_MOST_KNOWN = 100_000


@dataclass
class Layout:
    """``held``: the size of a content that the shelf holds, else None."""

    store: ContentStore
    repository: Repository
    settings: MappingSettings
    held: Held

    def __post_init__(self) -> None:
        self._blobs: dict[str, str] = {}  # content -> the blob with its bytes, which the repository has

    def outside(self, path: str, entry: Entry, *, write: bool) -> GitEntry:
        """What Git has in place of the file ``entry`` at ``path``; a file has the mode of one that is not executed."""
        is_small = entry.size <= notes.MOST_BYTES
        if is_small and entry.id in self._blobs and not self.settings.is_noted(path, entry.size):
            return GitEntry(FILE, self._blobs[entry.id])
        data = self.store.read_stored(entry.id) if is_small else b""
        if data is None or (not is_small and self.store.lies_outside(entry.id)):
            return GitEntry(FILE, self._written(self.note(path, entry), write=write))
        if (noted := notes.read_git_note(data)) is not None:
            what, said = noted
            if what == "submodule":
                return GitEntry(SUBMODULE, said.decode())
            return GitEntry(LINK, self._written(said, write=write))
        if self.settings.is_noted(path, entry.size):
            return GitEntry(FILE, self._written(self.note(path, entry), write=write))
        if is_small:
            blob = self._written(data, write=write)
            if write:
                self._know(entry.id, blob)
            return GitEntry(FILE, blob)
        return GitEntry(FILE, self.bytes_of(entry.id, entry.size, write=write))

    @staticmethod
    def note(path: str, entry: Entry) -> bytes:
        """The content note of a file."""
        return notes.write_content_note(ContentNote(entry.id, entry.size, notes.kind_by_name(path)))

    def bytes_of(self, content: str, size: int, *, write: bool) -> str:
        """The blob with the bytes of a content; one that the repository has is not written again."""
        known = self._blobs.get(content)
        if known is not None:
            return known
        if not write:
            digest = hashlib.sha1(b"blob %d\0" % size, usedforsecurity=False)
            for piece in self.store.iter_range(content):
                digest.update(piece)
            return digest.hexdigest()
        found = self.repository.put_blob(size, self.store.iter_range(content))
        self._know(content, found)
        return found

    def _written(self, data: bytes, *, write: bool) -> str:
        return self.repository.put("blob", data) if write else object_id("blob", data)

    def _know(self, content: str, blob: str) -> None:
        if len(self._blobs) > _MOST_KNOWN:
            self._blobs.clear()
        self._blobs[content] = blob

    def all_inside(self, came: Sequence[tuple[str, GitEntry]]) -> Iterator[tuple[str, tuple[Entry, bool]]]:
        """As ``inside``, for files by path."""
        read = [entry.id for _, entry in came if entry.mode != SUBMODULE]
        ids = self.repository.in_turn(read)
        for path, entry in came:
            if entry.mode != SUBMODULE:
                next(ids)
            yield path, self.inside(path.rpartition("/")[2], entry)

    def inside(self, name: str, entry: GitEntry) -> tuple[Entry, bool]:
        """The artifact that an entry of Git becomes, its bytes stored; False for the note of a content that the shelf
        does not hold, which becomes what it is."""
        if entry.mode == SUBMODULE:
            return self._stored(name, notes.write_submodule_note(entry.id)), True
        if entry.mode == LINK:
            return self._stored(name, notes.write_link_note(self.repository.read(entry.id)[1])), True
        if not entry.is_file:
            raise InvalidError(
                f"{name} has the mode {entry.mode.decode('latin-1')} in Git, which is unknown", code="git.mode"
            )
        size, pieces = self.repository.read_pieces(entry.id)
        if size <= notes.MOST_BYTES:
            data = b"".join(pieces)
            note = notes.read_content_note(data)
            if note is not None and self.held(note.sha256) == note.size:
                return Entry(name, "artifact", note.sha256, note.size), True
            info = self.store.put(data)
            if note is not None or notes.read_git_note(data) is not None:
                # What looks like a note of ours is not remembered: what it becomes on the way out depends on more.
                return Entry(name, "artifact", info.id, info.size), note is None
        else:
            info = self.store.put_stream(pieces)
        self._know(info.id, entry.id)
        return Entry(name, "artifact", info.id, info.size), True

    def _stored(self, name: str, data: bytes) -> Entry:
        info = self.store.put(data)
        return Entry(name, "artifact", info.id, info.size)


def shelf_path(path: bytes) -> str | None:
    """The path an artifact has that lies at ``path`` in Git; None where none may have it."""
    try:
        return check_path(path.decode())
    except (UnicodeDecodeError, InvalidError):
        return None


@dataclass(frozen=True)
class FileChanges:
    """``files``: path -> file before and after, for every file that differs, those of folders kept whole one by one.
    ``wholes``: whether a folder is kept whole in one of the states only; ``inside``: whether one changed that is kept
    whole in both."""

    files: dict[str, FileChange]
    wholes: bool = False
    inside: bool = False

    @property
    def put(self) -> list[str]:
        """The files that are new or other than before."""
        return [path for path, (_, after) in self.files.items() if after is not None]


def file_changes(trees: Trees, before: str, after: str) -> FileChanges:
    """What differs between two states, file by file, by path."""
    old: dict[str, Entry] = {}
    new: dict[str, Entry] = {}
    wholes = inside = False
    for change in trees.changes(before, after):
        one, other = change.before, change.after
        if one is not None and other is not None and one.type == other.type == "whole":
            inside = True
            inner = file_changes(trees, one.id, other.id).files
            old.update({f"{change.path}/{p}": e for p, (e, _) in inner.items() if e is not None})
            new.update({f"{change.path}/{p}": e for p, (_, e) in inner.items() if e is not None})
            continue
        for entry, files in ((one, old), (other, new)):
            if entry is not None and entry.type == "whole":
                wholes = True
                files.update(trees.files(entry.id, f"{change.path}/"))
            elif entry is not None:
                files[change.path] = entry
    found = {path: (old.get(path), new.get(path)) for path in sorted(old.keys() | new.keys())}
    return FileChanges({path: pair for path, pair in found.items() if _id(pair[0]) != _id(pair[1])}, wholes, inside)


def _id(entry: Entry | None) -> str | None:
    return entry.id if entry is not None else None
