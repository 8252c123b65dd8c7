"""One mapping between a shelf's commits and a repository's, in both directions.

What a commit becomes depends on the commit, on what its parents became, and on the settings: on no clock, counter or
installation. So the same history has the same ids everywhere, and whoever lost count may begin from the first commit.

A tree in Git is the tree of the first parent with what the commit changed on the shelf; where a commit that came from
Git holds something else, its residue says so, path by path. So what the shelf has no place for is carried along by
commits made on the shelf, which say nothing of it.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

import msgspec

from everyshelf.core.errors import BrokenError
from everyshelf.core.history.commits import CommitData, Move
from everyshelf.core.history.marking import Texts, marked
from everyshelf.core.history.trees import Entry, Trees
from everyshelf.gitside import folders
from everyshelf.gitside.folders import differing, edited
from everyshelf.gitside.idents import Ident, decoded, git_name, ident_line, parse_ident, seconds_of
from everyshelf.gitside.layout import FileChange, FileChanges, Layout, file_changes, shelf_path
from everyshelf.gitside.messages import Said, message_of, parse_message, plain_message_of
from everyshelf.gitside.objects import (
    EMPTY_TREE,
    FILE,
    CommitObject,
    GitEntry,
    encode_commit_object,
    object_id,
    parse_commit_object,
)
from everyshelf.gitside.renames import moves_of
from everyshelf.gitside.residue import NOTHING, GitResidue, KeptPath, decode_residue, encode_residue
from everyshelf.gitside.texts import as_raw, as_text

_HEADER = b"every-shelf "
_AUTHOR = 150  # characters of an author's name


Moment = Callable[[datetime], datetime]


def _as_claimed(moment: datetime) -> datetime:
    """Recorded when it says it was."""
    return moment


@dataclass(frozen=True)
class ShelfCommit:
    """A commit of the shelf: its id, what it says, and when it was recorded."""

    uid: str
    data: CommitData
    recorded: datetime


@dataclass(frozen=True)
class Parent:
    """A parent as it is on both sides: its state on the shelf, its commit in Git."""

    root: str
    git: str


@dataclass(frozen=True)
class Fetched:
    """What a commit of Git becomes on the shelf. ``moves``: old and new path. ``shelf_commit``: the id that its trailer
    names, if it is a commit of a shelf as the mapping writes it. ``residue``: what is kept for Git if its id here is
    another one. ``odd``: paths it put that no artifact may have. ``unheld``: paths of content notes it put whose
    content the shelf does not hold."""

    git: str
    root: str
    author: str
    time: datetime
    recorded: datetime
    summary: str
    description: str
    labels: dict[str, str]
    tasks: list[str]
    moves: list[tuple[str, str]]
    shelf_commit: str
    residue: bytes
    changes: FileChanges
    odd: tuple[bytes, ...]
    unheld: tuple[str, ...]

    def kept(self, uid: str) -> bytes:
        """What to keep for Git with the commit, whose id would be ``uid`` without; empty for nothing."""
        return b"" if uid and uid == self.shelf_commit else self.residue


class Mapping:
    """The mapping between the shelf whose folders are ``trees`` and a repository."""

    def __init__(self, trees: Trees, layout: Layout) -> None:
        self._trees, self._layout = trees, layout
        self._store, self._repository = layout.store, layout.repository

    # --- to Git ------------------------------------------------------------------------

    def to_git(self, commit: ShelfCommit, parents: Sequence[Parent], seen: Seen | None = None) -> str:
        """Write the commit into the repository and return its id there; ``flush`` of the repository makes it last.
        ``seen``: what it changed, where that is known already."""
        residue = decode_residue(self._store.read(commit.data.git)) if commit.data.git else NOTHING
        self._repository.forget()
        before = parents[0].root if parents else self._trees.empty
        changes = seen.changes if seen is not None else file_changes(self._trees, before, commit.data.root)
        tree = self._with_kept(self._tree_of(changes, _moved_from(commit.data), parents, write=True), residue.paths)
        self._repository.keep_trees()
        if residue.whole is not None:
            return self._repository.put("commit", as_raw(residue.whole))
        wholes: dict[str, bool] = {}
        if residue.headers is None:
            wholes = seen.wholes if seen is not None else self._wholes(before, commit.data.root, changes)
        made = _object(commit, [parent.git for parent in parents], tree, residue, wholes)
        return self._repository.put("commit", encode_commit_object(made))

    def _tree_of(
        self, changes: FileChanges, moved_from: dict[str, str], parents: Sequence[Parent], *, write: bool
    ) -> str:
        """The tree in Git of a commit that says nothing of Git; ``moved_from``: new path -> old path."""
        at = self._repository.root_of(parents[0].git) if parents else EMPTY_TREE
        others = [self._repository.root_of(parent.git) for parent in parents[1:]]
        edits: dict[bytes, GitEntry | None] = {}
        for path, (_, after) in changes.files.items():
            raw = path.encode()
            if after is None:
                edits[raw] = None
                continue
            entry = self._layout.outside(path, after, write=write)
            if entry.mode == FILE:
                entry = GitEntry(self._mode(at, others, raw, moved_from.get(path, "").encode()), entry.id)
            edits[raw] = entry
        for raw, kept in self._of_others(parents, at, others).items():
            if kept is None or raw not in edits or edits[raw] is not None:
                edits[raw] = self._joined(edits.get(raw), kept)
        return edited(self._repository, at, edits)

    @staticmethod
    def _joined(here: GitEntry | None, kept: GitEntry | None) -> GitEntry | None:
        """An entry of our own under the mode that another parent gave the file; else what that parent has."""
        return GitEntry(kept.mode, here.id) if here is not None and kept is not None and here.is_file else kept

    def _mode(self, tree: str, others: Sequence[str], path: bytes, moved_from: bytes) -> bytes:
        """A file keeps its mode, also when it is moved, and when it comes in by a merge."""
        places = [(tree, path), (tree, moved_from), *((other, path) for other in others)]
        for at, where in places:
            old = folders.find(self._repository, at, where) if where else None
            if old is not None and old.is_file:
                return old.mode
        return FILE

    def _of_others(self, parents: Sequence[Parent], at: str, others: Sequence[str]) -> dict[bytes, GitEntry | None]:
        """What other parents changed in Git alone since they parted: modes, and what no artifact stands for."""
        found: dict[bytes, GitEntry | None] = {}
        for parent, other in zip(parents[1:], others, strict=True):
            apart = [
                (path, there)
                for path, here, there in differing(self._repository, at, other)
                if shelf_path(path) is None or _is_mode_change(here, there)
            ]
            if not apart:
                continue
            base = self._base_tree(parents[0].git, parent.git)
            for path, there in apart:
                before = folders.find(self._repository, base, path)
                mine = folders.find(self._repository, at, path)
                if (before is None) == (mine is None) and (before is None or mine is None or before.mode == mine.mode):
                    found.setdefault(path, there)
        return found

    def _base_tree(self, one: str, other: str) -> str:
        """The tree from which two commits parted; of several the one that Git names first."""
        self._repository.flush()
        out = self._repository.run("merge-base", "--octopus", one, other, fine=(0, 1)).decode().split()
        return self._repository.root_of(out[0]) if out else EMPTY_TREE

    def _with_kept(self, tree: str, paths: Sequence[KeptPath]) -> str:
        """The tree with what the residue says of paths."""
        edits: dict[bytes, GitEntry | None] = {}
        for kept in paths:
            path = as_raw(kept.path)
            if kept.keep == "absent":
                edits[path] = None
            elif kept.keep == "commit":
                edits[path] = GitEntry(kept.mode.encode(), kept.id)
            elif kept.keep != "folder":
                size = self._store.size(kept.content)
                edits[path] = GitEntry(kept.mode.encode(), self._layout.bytes_of(kept.content, size, write=True))
        tree = edited(self._repository, tree, edits)
        for kept in paths:
            if kept.keep == "folder":
                tree = folders.replaced(self._repository, tree, as_raw(kept.path), bytes.fromhex(kept.id))
        return tree

    def _wholes(self, before: str, after: str, changes: FileChanges) -> dict[str, bool]:
        return wholes_of(self._store, self._trees, before, after, changes)

    # --- from Git ----------------------------------------------------------------------

    def from_git(self, git: str, parents: Sequence[Parent], recorded_at: Moment = _as_claimed) -> Fetched:
        """What a commit of the repository becomes on the shelf; its contents and folders are stored, and ``sync`` of
        the store makes them last. ``recorded_at``: when it is recorded, given when it says it was."""
        raw = self._repository.commit(git)
        there = parse_commit_object(raw)
        before = parents[0].root if parents else self._trees.empty
        at = self._repository.root_of(parents[0].git) if parents else EMPTY_TREE
        encoding = _encoding(there.headers)
        author, committer = parse_ident(there.author, encoding), parse_ident(there.committer, encoding)
        said = parse_message(decoded(there.message, encoding).replace("\0", "\ufffd"))
        ours = _our_header(there.headers, author, committer)
        root, odd, unheld = self._state(before, at, there.tree, ours.get("wholes", {}))
        changes = file_changes(self._trees, before, root)
        moves = self._moves(changes.files, said)
        time = datetime.fromisoformat(ours["time"]) if "time" in ours else author.moment
        data = CommitData(
            root=root,
            parents=[],
            author=ours.get("author") or author.name,
            time=time.isoformat(timespec="microseconds"),
            summary=said.summary,
            description=said.description,
            labels=dict(said.labels),
            tasks=list(said.tasks),
        )
        recorded = datetime.fromisoformat(ours["recorded"]) if "recorded" in ours else committer.moment
        recorded = recorded_at(recorded)
        wholes = self._wholes(before, root, changes) if ours.get("wholes") else {}
        made = self._tree_of(changes, {new: old for old, new in moves}, parents, write=False)
        paths = tuple(self._kept_paths(made, there.tree))
        self._repository.forget()
        commit = ShelfCommit(said.shelf_commit, _with_moves(data, moves), recorded)
        residue = _residue(raw, there, commit, wholes, paths)
        is_ours = residue == NOTHING
        if residue.whole is None and residue.message is None and not residue.plain:
            residue = msgspec.structs.replace(residue, shelf_commit=said.shelf_commit)
        return Fetched(
            git=git,
            root=root,
            author=data.author,
            time=time,
            recorded=recorded,
            summary=said.summary,
            description=said.description,
            labels=data.labels,
            tasks=data.tasks,
            moves=moves,
            shelf_commit=said.shelf_commit if is_ours else "",
            residue=encode_residue(residue),
            changes=changes,
            odd=odd,
            unheld=unheld,
        )

    def _state(
        self, before: str, at: str, tree: str, wholes: dict[str, bool]
    ) -> tuple[str, tuple[bytes, ...], tuple[str, ...]]:
        """The state of the shelf: that of the first parent with what the commit changed in Git; paths that it cannot
        have, and those of notes whose content it does not hold."""
        changes: dict[str, Entry | None] = {}
        odd: list[bytes] = []
        unheld: list[str] = []
        came: list[tuple[str, GitEntry]] = []
        for raw, _, after in differing(self._repository, at, tree):
            path = shelf_path(raw)
            if path is None:
                odd += [raw] if after is not None else []
            elif after is None:
                changes[path] = None
            else:
                came.append((path, after))
        for path, (held, is_held) in self._layout.all_inside(came):
            changes[path] = held
            unheld += [] if is_held else [path]
        put = [path for path, entry in changes.items() if entry is not None]
        root = self._trees.apply(before, changes) if changes else before
        root = marked(self._store, self._trees, before, root, put) if changes else before
        marks: dict[str, Entry | None] = {}
        for path, whole in wholes.items():
            entry = self._trees.find(root, path)
            if entry is not None and entry.type != "artifact":
                marks[path] = (self._trees.whole if whole else self._trees.parted)(entry.name, entry.id)
        return (self._trees.apply(root, marks) if marks else root), tuple(odd), tuple(unheld)

    def _moves(self, changes: dict[str, FileChange], said: Said) -> list[tuple[str, str]]:
        """What was moved; a commit made on a shelf has said all of it."""
        if said.shelf_commit:
            there = {p for p, (_, after) in changes.items() if after is not None}
            gone = {p for p, (before, _) in changes.items() if before is not None}
            return [move for move in said.moves if move[0] in gone and move[1] in there]
        return moves_of(changes, said.moves, self._store.read)

    def _kept_paths(self, made: str, wanted: str) -> Iterator[KeptPath]:
        """What has to be said of paths so that the tree ``made`` becomes the one there is."""
        edits: dict[bytes, GitEntry | None] = {}
        for raw, _, there in differing(self._repository, made, wanted):
            edits[raw] = there
            path = as_text(raw)
            if there is None:
                yield KeptPath(path, "absent")
            elif there.mode.lstrip(b"0") == b"160000":
                yield KeptPath(path, "commit", there.mode.decode(), id=there.id)
            else:
                info = self._store.put_stream(self._repository.read_pieces(there.id)[1])
                yield KeptPath(path, "bytes", there.mode.decode(), content=info.id)
        made = edited(self._repository, made, edits)
        for raw, written in list(folders.odd_folders(self._repository, made, wanted)):
            here = folders.find(self._repository, made, raw) if raw else GitEntry(b"", made)
            if here is None or here.id != object_id("tree", written):
                made = folders.replaced(self._repository, made, raw, written)
                yield KeptPath(as_text(raw), "folder", id=written.hex())


@dataclass(frozen=True)
class Seen:
    """What differs between two states, file by file, and which folders are kept whole otherwise than the rules say."""

    changes: FileChanges
    wholes: dict[str, bool]


def wholes_of(store: Texts, trees: Trees, before: str, after: str, changes: FileChanges) -> dict[str, bool]:
    """Folders that are kept whole, or are not, otherwise than the rules say when they are first seen."""
    ruled = after
    if changes.wholes:
        put = {path: pair[1] for path, pair in changes.files.items()}
        ruled = trees.apply(before, put)
    ruled = marked(store, trees, before, ruled, changes.put)
    return dict(_whole_folders_apart(trees, ruled, after)) if ruled != after else {}


def _object(
    commit: ShelfCommit, parents: Sequence[str], tree: str, residue: GitResidue, wholes: dict[str, bool]
) -> CommitObject:
    """The commit as an object of Git."""
    data, headers = commit.data, residue.headers
    said = Said(
        data.summary,
        data.description,
        data.labels,
        tuple(data.tasks),
        tuple((move.before, move.after) for move in data.moves),
        commit.uid if residue.shelf_commit is None else residue.shelf_commit,
    )
    if residue.message is not None:
        message = as_raw(residue.message)
    else:
        message = (plain_message_of(said) if residue.plain else message_of(said)).encode()
    time = datetime.fromisoformat(data.time)
    return CommitObject(
        tree,
        tuple(parents),
        as_raw(residue.author) if residue.author is not None else ident_line(data.author, time),
        as_raw(residue.committer) if residue.committer is not None else ident_line(data.author, commit.recorded),
        as_raw(headers) if headers is not None else _header(commit, wholes),
        message,
    )


def _header(commit: ShelfCommit, wholes: dict[str, bool]) -> bytes:
    """What the standard lines cannot say: parts of a second, odd names, folders kept whole against the rule."""
    data = commit.data
    said: dict[str, Any] = {}
    if git_name(data.author) != data.author:
        said["author"] = data.author
    if data.time != _whole_second(datetime.fromisoformat(data.time)):
        said["time"] = data.time
    if commit.recorded.microsecond:
        said["recorded"] = commit.recorded.astimezone(UTC).isoformat(timespec="microseconds")
    if wholes:
        said["wholes"] = wholes
    return _HEADER + json.dumps(said, separators=(",", ":"), sort_keys=True).encode() + b"\n" if said else b""


def _residue(
    raw: bytes, there: CommitObject, commit: ShelfCommit, wholes: dict[str, bool], paths: tuple[KeptPath, ...]
) -> GitResidue:
    """What has to be kept so that the commit becomes the object that there is."""
    made = _object(commit, there.parents, there.tree, NOTHING, wholes)
    message: dict[str, Any] = {}
    if there.message != made.message:
        said = Said(commit.data.summary, commit.data.description)
        is_plain = there.message == plain_message_of(said).encode()
        message = {"plain": True} if is_plain else {"message": as_text(there.message)}
    residue = GitResidue(
        author=None if there.author == made.author else as_text(there.author),
        committer=None if there.committer == made.committer else as_text(there.committer),
        headers=None if there.headers == made.headers else as_text(there.headers),
        paths=paths,
        **message,
    )
    again = _object(commit, there.parents, there.tree, residue, wholes)
    return residue if encode_commit_object(again) == raw else GitResidue(whole=as_text(raw), paths=paths)


def _moved_from(data: CommitData) -> dict[str, str]:
    return {move.after: move.before for move in data.moves}


def _is_mode_change(here: GitEntry | None, there: GitEntry | None) -> bool:
    return here is not None and there is not None and here.is_file and there.is_file and here.mode != there.mode


def _with_moves(data: CommitData, moves: Sequence[tuple[str, str]]) -> CommitData:
    return msgspec.structs.replace(data, moves=[Move("", old, new) for old, new in moves])


def _whole_second(moment: datetime) -> str:
    return moment.astimezone(UTC).replace(microsecond=0).isoformat(timespec="microseconds")


def _encoding(headers: bytes) -> str:
    for line in headers.split(b"\n"):
        if line.startswith(b"encoding "):
            return line[9:].decode("latin-1").strip()
    return "utf-8"


def _our_header(headers: bytes, author: Ident, committer: Ident) -> dict[str, Any]:
    """What our header says, as far as it agrees with the lines that every program of Git writes."""
    line = next((line for line in headers.split(b"\n") if line.startswith(_HEADER)), b"")
    try:
        said = json.loads(line[len(_HEADER) :]) if line else {}
        found: dict[str, Any] = {}
        name = said.get("author")
        if isinstance(name, str) and len(name) <= _AUTHOR and git_name(name).strip() == author.name:
            found["author"] = name
        for name, ident in (("time", author), ("recorded", committer)):
            if isinstance(said.get(name), str):
                moment = datetime.fromisoformat(said[name])
                if moment.tzinfo is not None and seconds_of(moment) == seconds_of(ident.moment):
                    found[name] = said[name]
        wholes = said.get("wholes")
        if isinstance(wholes, dict):
            found["wholes"] = {str(path): bool(whole) for path, whole in wholes.items()}
    except (ValueError, AttributeError, OverflowError):
        return {}
    return found


def _whole_folders_apart(trees: Trees, ruled: str, after: str) -> Iterator[tuple[str, bool]]:
    """Folder -> whether it is kept whole, where two states of the same files disagree."""
    wholes: dict[str, bool] = {}
    for change in trees.changes(ruled, after):
        for entry, whole in ((change.before, False), (change.after, True)):
            if entry is not None and entry.type == "whole":
                wholes[change.path] = whole
    if not wholes:
        raise BrokenError("the state of a commit does not follow from its files", code="git.state")
    yield from sorted(wholes.items())
