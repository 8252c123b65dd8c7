"""Committing: all or nothing, on top of a known head, with what follows from it in the records."""

from __future__ import annotations

import uuid
from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from datetime import datetime

from django.db import transaction
from django.utils import timezone

from everyshelf.core.errors import ConflictError, InvalidError, RefusedError, UnreadableError
from everyshelf.core.formats.text import decode
from everyshelf.core.history import Change, CommitData, Entry, Move, check_path, encode_commit
from everyshelf.core.history.wholes import keep_whole
from everyshelf.core.kinds.peeking import table_of_folder
from everyshelf.core.kinds.recognise import HEAD_BYTES, recognise
from everyshelf.core.kinds.rules import FILE_NAME, Rules, parse_rules
from everyshelf.core.merge import Side
from everyshelf.core.tables.given import Given
from everyshelf.service.context import get_store, get_trees
from everyshelf.service.log.actions import note
from everyshelf.service.people.rights import Caller, require
from everyshelf.service.shelves.actions.contents import held_of
from everyshelf.service.shelves.actions.refs import get_branch
from everyshelf.service.shelves.models import Artifact, ArtifactVersion, Branch, Commit, CommitParent, Shelf

_MAX_CHANGES = 200_000
_RECOGNISED_BYTES = 1024 * 1024


@dataclass(frozen=True)
class Wanted:
    """One change asked for: new content at a path (perhaps moved from another), or a removal (``content`` None)."""

    path: str
    content: str | None
    moved_from: str = ""


@dataclass(frozen=True)
class Message:
    """What people say about a commit."""

    summary: str
    description: str = ""
    labels: dict[str, str] = field(default_factory=dict)
    tasks: list[str] = field(default_factory=list)
    author: str | None = None
    time: datetime | None = None


def commit_changes(
    caller: Caller,
    shelf: Shelf,
    branch_name: str,
    base: str | None,
    wanted: list[Wanted],
    message: Message,
    *,
    merge: bool = False,
    prefer: Side | None = None,
) -> Commit:
    """Commit ``wanted`` onto the branch, whose head the caller believes to be ``base`` (None: no commit yet).

    Raises ``ConflictError`` (branch.moved, with both ids) if it has moved on, unless ``merge`` asks to combine.
    ``prefer`` settles artifacts changed on both sides: "this" is what the branch has, "other" what is committed.
    """
    branch = get_branch(shelf, branch_name)
    require_branch(caller, shelf, branch)
    message = checked_message(caller, message)
    base_commit = _base(shelf, branch, base, merge=merge)
    root_before = base_commit.root if base_commit else get_trees().empty
    root, moves = _applied(shelf, root_before, wanted)
    head = branch.head
    if head is not None and base_commit != head:
        from everyshelf.service.shelves.actions.merge_plan import Wish
        from everyshelf.service.shelves.actions.merging import merge_or_wait

        wish = Wish(root_before, root, base_commit, None, moves, f"a commit of {caller.person.username}")
        made, _ = merge_or_wait(caller, shelf, branch, wish, message, prefer)
        if made is None:
            raise _nothing_to_commit()
        return made
    if root == root_before:
        raise _nothing_to_commit()
    parents = [head] if head is not None else []
    return record_commit(caller, shelf, branch, parents, root, message, moves)


def _nothing_to_commit() -> InvalidError:
    return InvalidError(
        "nothing would change, so there is nothing to commit", code="commit.empty", hint="See everyshelf pending."
    )


def require_branch(caller: Caller, shelf: Shelf, branch: Branch) -> None:
    """Return if the caller may commit to the branch."""
    require(caller, shelf, "commit to a guarded branch" if branch.guarded else "commit")


def checked_message(caller: Caller, message: Message) -> Message:
    """The message with its author filled in; raises for an empty summary or a claimed author without the right."""
    summary = message.summary.strip()
    if not summary or len(summary) > 300 or "\n" in summary:
        raise InvalidError(
            "a commit needs a summary of one line, up to 300 characters",
            code="commit.summary",
            pointer="/summary",
            hint='Say what changed: --summary "…"',
        )
    if (message.author or message.time) and not caller.may_import:
        raise RefusedError(
            "only someone with the right to import sets author or time", code="rights.import", hint="Leave both out."
        )
    return replace(message, summary=summary, author=message.author or caller.person.username)


def _base(shelf: Shelf, branch: Branch, base: str | None, *, merge: bool) -> Commit | None:
    head = branch.head.uid if branch.head else None
    if base == head:
        return branch.head
    if not merge:
        raise moved(branch, base)
    if base is None:
        return None
    found = Commit.objects.filter(shelf=shelf, uid=base).first()
    if found is None:
        raise InvalidError(f"there is no commit {base[:12]} to build on", code="commit.base")
    return found


def moved(branch: Branch, base: str | None) -> ConflictError:
    """That the branch went on meanwhile."""
    head = branch.head.uid if branch.head else None
    return ConflictError(
        f"{branch.name} has moved on to {head[:8] if head else 'no commit'}, "
        f"and you build on {base[:8] if base else 'none'}",
        code="branch.moved",
        hint="Commit with --merge to combine both, or take the newest state first.",
        head=head,
        base=base,
    )


def _applied(shelf: Shelf, root: str, wanted: list[Wanted]) -> tuple[str, list[tuple[str, str]]]:
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


def marked(before: str, after: str) -> str:
    """The state with the folders kept whole that are to be: one artifact each."""
    trees = get_trees()
    changed_rules = trees.find(before, FILE_NAME) != trees.find(after, FILE_NAME)
    return keep_whole(trees, before, after, rules_at(after), everywhere=changed_rules)


def _entry(change: Wanted, sizes: dict[str, int]) -> Entry | None:
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


def rules_at(root: str) -> Rules:
    """The rules of the shelf in this state; none if there is no readable ``shelf.toml``."""
    entry = get_trees().find(root, FILE_NAME)
    if entry is None or entry.type != "artifact":
        return Rules()
    try:
        return parse_rules(decode(get_store().read(entry.id)).text)
    except (InvalidError, UnreadableError):
        return Rules()


# --- recording -------------------------------------------------------------------


def record_commit(
    caller: Caller,
    shelf: Shelf,
    branch: Branch | None,
    parents: list[Commit],
    root: str,
    message: Message,
    moves: Iterable[tuple[str, str]] = (),
    *,
    recorded: datetime | None = None,
) -> Commit:
    """Write the commit: bytes made durable first, then all records in one transaction.

    Raises ``ConflictError`` if the branch's head is no longer ``parents[0]`` when the transaction begins. Without a
    branch the commit is in no line until another one names it as a parent. ``recorded``: when, if that is not the time
    the message claims, or now.
    """
    trees, store = get_trees(), get_store()
    before = parents[0].root if parents else trees.empty
    changes = list(trees.changes(before, root))
    known = {c.path: c.after.id for p in parents[1:] for c in trees.changes(before, p.root) if c.after is not None}
    kinds = _kinds(rules_at(root), (c for c in changes if c.after is not None and known.get(c.path) != c.after.id))
    artifacts = _artifacts_before(shelf, changes, {new: old for old, new in moves})
    now = timezone.now()
    data = _commit_data(root, parents, message, artifacts, moves, now)
    uid, body = encode_commit(data)
    store.put(body)
    store.sync()
    with transaction.atomic():
        if branch is not None:
            branch = Branch.objects.select_related("head").get(pk=branch.pk)
            if (branch.head_id or None) != (parents[0].pk if parents else None):
                raise moved(branch, parents[0].uid if parents else None)
        commit = Commit.objects.create(
            shelf=shelf,
            uid=uid,
            root=root,
            author=data.author,
            time=message.time or now,
            recorded=recorded or message.time or now,
            recorded_by=caller.person,
            summary=data.summary,
            description=data.description,
            labels=data.labels,
            tasks=data.tasks,
            generation=1 + max((p.generation for p in parents), default=0),
        )
        CommitParent.objects.bulk_create(
            CommitParent(commit=commit, parent=p, position=k) for k, p in enumerate(parents)
        )
        _record_versions(shelf, commit, changes, kinds, artifacts, {n: o for o, n in moves}, known)
        if branch is not None:
            branch.head = commit
            branch.save(update_fields=["head"])
            note(caller, "commit.made", data.summary, shelf, commit=uid, branch=branch.name)
    return commit


def _commit_data(
    root: str,
    parents: list[Commit],
    message: Message,
    artifacts: dict[str, str],
    moves: Iterable[tuple[str, str]],
    now: datetime,
) -> CommitData:
    return CommitData(
        root=root,
        parents=[p.uid for p in parents],
        author=message.author or "",
        time=(message.time or now).isoformat(timespec="microseconds"),
        summary=message.summary,
        description=message.description,
        labels=message.labels,
        tasks=message.tasks,
        moves=[Move(artifacts[new], old, new) for old, new in moves if new in artifacts],
    )


def _kinds(rules: Rules, changes: Iterable[Change]) -> dict[str, str]:
    """Kind by path of what came or changed."""
    store, result = get_store(), {}
    for change in changes:
        assert change.after is not None
        declared = rules.kind_for(change.path)
        if declared is None and change.after.type == "whole":
            declared = _kind_of_folder(change.path, change.after)
        if declared is None:
            whole = change.after.size <= _RECOGNISED_BYTES
            head = b"".join(store.iter_range(change.after.id, 0, None if whole else HEAD_BYTES))
            declared = recognise(change.path, head, change.after.size).kind
        result[change.path] = declared
    return result


def _kind_of_folder(path: str, entry: Entry) -> str:
    """A table in many files is a dataset; other folders are known for nothing but their files."""
    trees, store = get_trees(), get_store()
    files: list[Given] = []
    for inner, held in trees.files(entry.id):
        # The first file is looked into, of the others only how they begin.
        size = 8 if files else _RECOGNISED_BYTES
        files.append(Given(inner, b"".join(store.iter_range(held.id, 0, size))))
    found = table_of_folder(Given(path, files=tuple(files)))
    return found.kind if found is not None else "opaque"


def _artifacts_before(shelf: Shelf, changes: list[Change], moved_from: dict[str, str]) -> dict[str, str]:
    """Artifact id by path for every changed path: the one known there, the one that moved there, or a new one.

    A path that comes back, or comes on another branch too, is the same artifact, unless that one has moved away.
    """
    sources = {c.path: moved_from.get(c.path, c.path) for c in changes}
    newest: dict[str, ArtifactVersion] = {}
    paths = list(set(sources.values()))
    for start in range(0, len(paths), 500):
        rows = ArtifactVersion.objects.filter(shelf=shelf, path__in=paths[start : start + 500]).select_related(
            "artifact"
        )
        for row in rows.order_by("id"):
            newest[row.path] = row
    gone_away = set(moved_from.values())
    result = {}
    for change in changes:
        source = sources[change.path]
        row = newest.get(source)
        usable = row is not None and not (change.path in gone_away and change.after is not None)
        if usable and row is not None and not row.content and change.before is None and change.path not in moved_from:
            usable = not _lives_elsewhere(row)
        result[change.path] = row.artifact.uid if usable and row is not None else uuid.uuid4().hex
    return result


def _lives_elsewhere(row: ArtifactVersion) -> bool:
    last = ArtifactVersion.objects.filter(artifact=row.artifact).order_by("-id").first()
    return last is not None and bool(last.content) and last.path != row.path


def _record_versions(
    shelf: Shelf,
    commit: Commit,
    changes: list[Change],
    kinds: dict[str, str],
    artifacts: dict[str, str],
    moved_from: dict[str, str],
    known: dict[str, str],
) -> None:
    """One row for each artifact the commit changed. What a merge takes from its other parent is one already."""
    left = set(moved_from.values())
    concerned = [c for c in changes if _is_new_here(c, known) and not (c.path in left and c.after is None)]
    uids = {artifacts[c.path] for c in concerned}
    rows = {a.uid: a for a in _existing(uids)}
    fresh = [Artifact(shelf=shelf, uid=uid) for uid in uids - rows.keys()]
    Artifact.objects.bulk_create(fresh, batch_size=500)
    rows.update({a.uid: a for a in _existing({f.uid for f in fresh})})
    versions = []
    for change in concerned:
        artifact = rows[artifacts[change.path]]
        if change.after is not None:
            artifact.versions_made += 1
        versions.append(
            ArtifactVersion(
                artifact=artifact,
                shelf=shelf,
                commit=commit,
                path=change.path,
                moved_from=moved_from.get(change.path, ""),
                number=artifact.versions_made if change.after else None,
                content=change.after.id if change.after else "",
                size=change.after.size if change.after else 0,
                kind=kinds.get(change.path, ""),
            )
        )
    Artifact.objects.bulk_update(rows.values(), ["versions_made"], batch_size=500)
    ArtifactVersion.objects.bulk_create(versions, batch_size=500)


def _is_new_here(change: Change, known: dict[str, str]) -> bool:
    return change.after is None or known.get(change.path) != change.after.id


def _existing(uids: set[str]) -> list[Artifact]:
    wanted, found = list(uids), []
    for start in range(0, len(wanted), 500):
        found.extend(Artifact.objects.filter(uid__in=wanted[start : start + 500]))
    return found


# --- restoring -------------------------------------------------------


def restore(
    caller: Caller, shelf: Shelf, branch_name: str, source_root: str, path: str | None, message: Message
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
            raise InvalidError(f"{path} is in neither state", code="restore.missing")
        root = trees.apply(head_root, {path: entry})
    if root == head_root:
        raise InvalidError("it is in that state already", code="commit.empty")
    parents = [branch.head] if branch.head else []
    return record_commit(caller, shelf, branch, parents, root, checked_message(caller, message))
