"""Committing: changes, or an older state, on top of a branch whose head the caller knows."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from everyshelf.core.errors import InvalidError, UnreadableError
from everyshelf.core.formats.text import decode
from everyshelf.core.history.paths import check_path
from everyshelf.core.history.trees import Entry
from everyshelf.core.kinds.rules import FILE_NAME, parse_rules
from everyshelf.core.merge.model import Side
from everyshelf.service.base.context import get_store, get_trees
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.contents import held_of
from everyshelf.service.shelves.actions.merge_plan import MergeRequest
from everyshelf.service.shelves.actions.merging import prepare_merge_or_wait
from everyshelf.service.shelves.actions.recording import (
    CommitMessage,
    PreparedCommit,
    Progress,
    checked_message,
    marked,
    moved,
    no_progress,
    prepare_commit,
    record_commit,
    require_branch,
)
from everyshelf.service.shelves.actions.refs import get_branch
from everyshelf.service.shelves.models import Branch, Commit, Shelf

_MAX_CHANGES = 200_000


@dataclass(frozen=True)
class ChangeRequest:
    """One change asked for: new content at a path (perhaps moved from another), or a removal (``content`` None)."""

    path: str
    content: str | None
    moved_from: str = ""


def commit_changes(
    caller: Caller,
    shelf: Shelf,
    branch_name: str,
    base: str | None,
    wanted: list[ChangeRequest],
    message: CommitMessage,
    *,
    merge: bool = False,
    prefer: Side | None = None,
) -> Commit:
    """Prepare a commit of changes and record it."""
    return prepare_changes(caller, shelf, branch_name, base, wanted, message, merge=merge, prefer=prefer).record()


def prepare_changes(
    caller: Caller,
    shelf: Shelf,
    branch_name: str,
    base: str | None,
    wanted: list[ChangeRequest],
    message: CommitMessage,
    *,
    merge: bool = False,
    prefer: Side | None = None,
    older: Mapping[str, str] | None = None,
    progress: Progress = no_progress,
) -> PreparedCommit:
    """A commit of ``wanted`` onto the branch, whose head the caller believes to be ``base`` (None: no commit yet).

    Raises ``ConflictError`` (branch.moved, with both ids) if the branch has moved on and changed something that
    ``wanted`` touches, unless ``merge`` asks to combine. What does not touch each other needs no asking. ``prefer``
    settles artifacts changed on both sides: "target" is what the branch has, "source" what is committed. ``older``:
    path -> the state (a root) that change was made on, where that is an older one than ``base``. ``progress`` is told
    how many artifacts were looked into.
    """
    branch = get_branch(shelf, branch_name)
    require_branch(caller, shelf, branch)
    message = checked_message(caller, message)
    head = branch.head
    base_commit = _base(shelf, branch, base)
    root_before = _with_older(base_commit.root if base_commit else get_trees().empty, older or {})
    if head is not None and base_commit != head:
        root_before = _with_own(caller, branch, root_before, wanted)
    root, moves = _applied(shelf, root_before, wanted)
    if head is not None and (base_commit != head or older):
        if not merge and _touches_newer(root_before, head.root, wanted):
            raise moved(branch, base)
        request = MergeRequest(
            root_before, root, base_commit, None, moves, branch.name, f"a commit of {caller.person.username}"
        )
        prepared, _ = prepare_merge_or_wait(caller, shelf, branch, request, message, prefer)
        if prepared is None:
            raise _nothing_to_commit()
        return prepared
    if root == root_before:
        raise _nothing_to_commit()
    parents = [head] if head is not None else []
    return prepare_commit(caller, shelf, branch, parents, root, message, moves, progress=progress)


def _with_older(root: str, older: Mapping[str, str]) -> str:
    """The state in which each of these artifacts is as it was in its own state: the base all changes have together."""
    trees = get_trees()
    return trees.apply(root, {path: trees.find(state, path) for path, state in older.items()}) if older else root


def _with_own(caller: Caller, branch: Branch, root: str, wanted: list[ChangeRequest]) -> str:
    """The base in which what the same person went on from and committed since is as it is wanted: nobody shall have to
    settle a conflict with their own work."""
    asked = [w for w in wanted if w.content is not None and not w.moved_from]
    mine = {w.path for w in asked if any(knows(caller.person, branch, w.path, str(w.content)) for knows in _own_work)}
    if not mine:
        return root
    sizes = held_of(branch.shelf, (w.content for w in asked if w.path in mine and w.content is not None))
    return get_trees().apply(root, {w.path: _entry(w, sizes) for w in asked if w.path in mine})


_own_work: list[Callable[[Any, Branch, str, str], bool]] = []


def own_work(knows: Callable[[Any, Branch, str, str], bool]) -> None:
    """Register what knows whether a person has gone on from a content of an artifact, and committed that to a branch:
    called with the person, the branch, the path and the content."""
    _own_work.append(knows)


def _touches_newer(before: str, head: str, wanted: list[ChangeRequest]) -> bool:
    """Whether the branch changed, since ``before``, an artifact that is to be changed, moved or removed; or the rules
    by which the shelf is read."""
    paths = {path for change in wanted for path in (change.path, change.moved_from) if path}
    for newer in get_trees().changes(before, head):
        if newer.path == FILE_NAME or newer.path in paths:
            return True
        if any(p.startswith(f"{newer.path}/") or newer.path.startswith(f"{p}/") for p in paths):
            return True
    return False


def _nothing_to_commit() -> InvalidError:
    return InvalidError(
        "nothing would change, so there is nothing to commit", code="commit.empty", hint="See everyshelf pending."
    )


def _base(shelf: Shelf, branch: Branch, base: str | None) -> Commit | None:
    if base == (branch.head.uid if branch.head else None):
        return branch.head
    if base is None:
        return None
    commit = Commit.objects.filter(shelf=shelf, uid=base).first()
    if commit is None:
        raise InvalidError(f"there is no commit {base[:12]!r} to build on", code="commit.base")
    return commit


def _applied(shelf: Shelf, root: str, wanted: list[ChangeRequest]) -> tuple[str, list[tuple[str, str]]]:
    if not wanted:
        raise InvalidError("there is no change in it", code="commit.empty", hint="See everyshelf pending.")
    if len(wanted) > _MAX_CHANGES:
        raise InvalidError(f"more than {_MAX_CHANGES} changes in one commit", code="commit.too_large")
    sizes = held_of(shelf, (w.content for w in wanted if w.content is not None))
    changes: dict[str, Entry | None] = {}
    moves = []
    for change in wanted:
        check_path(change.path)
        if change.path in changes:
            raise InvalidError(f"{change.path} appears twice", code="commit.twice")
        changes[change.path] = _entry(change, sizes)
    for change in wanted:
        if change.moved_from:
            check_path(change.moved_from)
            changes.setdefault(change.moved_from, None)
            moves.append((change.moved_from, change.path))
    _check_rules(changes.get(FILE_NAME))
    return marked(root, get_trees().apply(root, changes)), moves


def _entry(change: ChangeRequest, sizes: dict[str, int]) -> Entry | None:
    if change.content is None:
        return None
    if change.content not in sizes:
        raise InvalidError(
            f"the content of {change.path} was not uploaded to this shelf",
            code="content.missing",
            hint="Upload it first: PUT …/contents.",
        )
    return Entry(change.path.rpartition("/")[2], "artifact", change.content, sizes[change.content])


def _check_rules(entry: Entry | None) -> None:
    if entry is not None:
        try:
            parse_rules(decode(get_store().read(entry.id)).text)
        except UnreadableError as error:
            raise InvalidError(f"{FILE_NAME}: {error.message}", code="rules.syntax") from error


def restore(
    caller: Caller, shelf: Shelf, branch_name: str, source_root: str, path: str | None, message: CommitMessage
) -> Commit:
    """Bring one artifact, or with no path the whole shelf, back to an older state, as a new commit."""
    branch = get_branch(shelf, branch_name)
    require_branch(caller, shelf, branch)
    trees = get_trees()
    head_root = branch.head.root if branch.head else trees.empty
    root = source_root
    if path is not None:
        entry = trees.find(source_root, check_path(path))
        if entry is None and trees.find(head_root, path) is None:
            raise InvalidError(f"{path} exists neither before nor after", code="restore.missing")
        root = trees.apply(head_root, {path: entry})
    if root == head_root:
        raise InvalidError("it is in that state already", code="commit.empty")
    parents = [branch.head] if branch.head else []
    return record_commit(caller, shelf, branch, parents, root, checked_message(caller, message))
