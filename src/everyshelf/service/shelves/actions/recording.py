"""Recording a commit: its bytes made durable first, then all its records in one transaction."""

from __future__ import annotations

import uuid
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta

from django.utils import timezone

from everyshelf.core.errors import ConflictError, InvalidError, RefusedError, UnreadableError
from everyshelf.core.formats.text import decode
from everyshelf.core.history import Change, CommitData, Entry, Move, encode_commit
from everyshelf.core.history.wholes import keep_whole
from everyshelf.core.kinds.recognise import HEAD_BYTES
from everyshelf.core.kinds.rules import FILE_NAME, Rules, parse_rules
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.context import get_store, get_trees, recogniser
from everyshelf.service.jobs.actions import start_job
from everyshelf.service.log.actions import note
from everyshelf.service.rights import Caller, require
from everyshelf.service.shelves.models import Artifact, ArtifactVersion, Branch, Commit, CommitParent, Shelf

RECOGNISED_BYTES = 1024 * 1024
_BATCH_BYTES = 16 * 1024 * 1024
_SOONEST = timedelta(microseconds=1)
_MOST_REMEMBERED = 20_000
_remembered: dict[tuple[str, str, str], str] = {}  # kinds by path, content and rules
# Told how far a long commit is: done, total, and a note.
Progress = Callable[[int, int, str], None]


def no_progress(_done: int, _total: int, _note: str) -> None:
    """For commits that nobody watches."""


@dataclass(frozen=True)
class Message:
    """What people say about a commit."""

    summary: str
    description: str = ""
    labels: dict[str, str] = field(default_factory=dict)
    tasks: list[str] = field(default_factory=list)
    author: str | None = None
    time: datetime | None = None


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


def marked(before: str, after: str) -> str:
    """The state with the folders kept whole that are to be: one artifact each."""
    trees = get_trees()
    changed_rules = trees.find(before, FILE_NAME) != trees.find(after, FILE_NAME)
    return keep_whole(trees, before, after, rules_at(after), everywhere=changed_rules)


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


@dataclass(frozen=True)
class PreparedCommit:
    """A commit whose bytes are durable and whose records are still to be written.

    ``parents[0]`` is the branch's head. ``known``: path -> content of what comes in from the other parents and is a
    version already.
    """

    caller: Caller
    shelf: Shelf
    branch: Branch | None
    parents: list[Commit]
    uid: str
    data: CommitData
    time: datetime
    recorded: datetime
    changes: list[Change]
    kinds: dict[str, str]
    artifacts: dict[str, str]
    moved_from: dict[str, str]
    known: dict[str, str]

    def record(self) -> Commit:
        """Write all records in one transaction: the commit, its versions, the branch's new head, the entry in the log
        and the job that describes it.

        Raises ``ConflictError`` (branch.moved) if the branch's head is no longer ``parents[0]``. Without a branch the
        commit is in no line until another one names it as a parent.
        """
        with one_act():
            branch = self.branch
            if branch is not None:
                branch = Branch.objects.select_related("head").get(pk=branch.pk)
                if (branch.head_id or None) != (self.parents[0].pk if self.parents else None):
                    raise moved(branch, self.parents[0].uid if self.parents else None)
            commit = self._rows()
            if branch is not None:
                branch.head = commit
                branch.save(update_fields=["head"])
                note(self.caller, "commit.made", self.data.summary, self.shelf, commit=self.uid, branch=branch.name)
                start_job(self.caller, "describe", self.shelf, {"commit": self.uid})
        return commit

    def _rows(self) -> Commit:
        commit = Commit.objects.create(
            shelf=self.shelf,
            uid=self.uid,
            root=self.data.root,
            author=self.data.author,
            time=self.time,
            recorded=self.recorded,
            recorded_by=self.caller.person,
            summary=self.data.summary,
            description=self.data.description,
            labels=self.data.labels,
            tasks=self.data.tasks,
            generation=1 + max((p.generation for p in self.parents), default=0),
        )
        CommitParent.objects.bulk_create(
            CommitParent(commit=commit, parent=p, position=k) for k, p in enumerate(self.parents)
        )
        _record_versions(self.shelf, commit, self.changes, self.kinds, self.artifacts, self.moved_from, self.known)
        return commit


def prepare_commit(
    caller: Caller,
    shelf: Shelf,
    branch: Branch | None,
    parents: list[Commit],
    root: str,
    message: Message,
    moves: Iterable[tuple[str, str]] = (),
    *,
    recorded: datetime | None = None,
    progress: Progress = no_progress,
) -> PreparedCommit:
    """Work out everything about a commit and make its bytes durable; nothing is recorded yet.

    ``recorded``: when, if that is not the time the message claims, or now.
    """
    trees, store = get_trees(), get_store()
    moves = list(moves)
    before = parents[0].root if parents else trees.empty
    changes = list(trees.changes(before, root))
    known = {c.path: c.after.id for p in parents[1:] for c in trees.changes(before, p.root) if c.after is not None}
    fresh = [c for c in changes if c.after is not None and known.get(c.path) != c.after.id]
    kinds = _kinds(rules_at(root), fresh, lambda done, path: progress(done, len(fresh), path))
    artifacts = _artifacts_before(shelf, changes, {new: old for old, new in moves})
    now = timezone.now()
    # Times of a line grow, whatever the clock does: else the state at a moment would not be the newest by then.
    recorded = max([recorded or message.time or now, *(p.recorded + _SOONEST for p in parents)])
    data = _commit_data(root, parents, message, artifacts, moves, now)
    uid, body = encode_commit(data)
    store.put(body)
    store.sync()
    moved_from = {new: old for old, new in moves}
    return PreparedCommit(
        caller,
        shelf,
        branch,
        parents,
        uid,
        data,
        message.time or now,
        recorded,
        changes,
        kinds,
        artifacts,
        moved_from,
        known,
    )


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
    """Prepare a commit and record it."""
    return prepare_commit(caller, shelf, branch, parents, root, message, moves, recorded=recorded).record()


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


def _kinds(
    rules: Rules, changes: Iterable[Change], looked: Callable[[int, str], None] = lambda _done, _path: None
) -> dict[str, str]:
    """Kind by path of what came or changed. Files are looked into by a reading process, a batch at a time."""
    result: dict[str, str] = {}
    waiting: list[tuple[str, bytes, int]] = []
    held = 0
    for done, change in enumerate(changes):
        assert change.after is not None
        looked(done, change.path)
        declared = rules.kind_for(change.path)
        if declared is not None:
            result[change.path] = declared
        elif change.after.type == "whole":
            result[change.path] = _kind_of_folder(change.path, change.after)
        else:
            size = change.after.size
            waiting.append((change.path, _beginning(change.after, RECOGNISED_BYTES), size))
            held += min(size, RECOGNISED_BYTES)
            if held > _BATCH_BYTES:
                result.update(_recognised(waiting))
                waiting, held = [], 0
    result.update(_recognised(waiting))
    return result


def kinds_of(entries: Mapping[str, Entry], rules: Rules) -> dict[str, str]:
    """Kind by path of artifacts that have no version, as they would be recorded; what was recognised is remembered."""
    keys = {path: (path, entry.id, rules.source) for path, entry in entries.items()}
    kinds = {path: kind for path, key in keys.items() if (kind := _remembered.get(key)) is not None}
    fresh = _kinds(rules, (Change(path, None, entries[path]) for path in keys.keys() - kinds.keys()))
    if len(_remembered) + len(fresh) > _MOST_REMEMBERED:
        _remembered.clear()  # other threads may be reading: nothing relies on an entry that was seen before
    _remembered.update({keys[path]: kind for path, kind in fresh.items()})
    return kinds | fresh


def _recognised(files: list[tuple[str, bytes, int]]) -> dict[str, str]:
    return dict(zip((path for path, _, _ in files), recogniser().recognise(files), strict=True)) if files else {}


def _beginning(entry: Entry, most: int) -> bytes:
    """All of a small file, of others how they begin."""
    return b"".join(get_store().iter_range(entry.id, 0, entry.size if entry.size <= most else HEAD_BYTES))


def _kind_of_folder(path: str, entry: Entry) -> str:
    """A table in many files is a dataset; other folders are known for nothing but their files."""
    files: list[tuple[str, bytes, int]] = []
    for inner, held in get_trees().files(entry.id):
        # The first file is looked into, of the others only how they begin.
        head = b"".join(get_store().iter_range(held.id, 0, 8)) if files else _beginning(held, RECOGNISED_BYTES)
        files.append((inner, head, held.size))
    return recogniser().recognise_folder(path, files)


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
    back = [c.path for c in changes if c.before is None and c.path not in moved_from and c.path in newest]
    elsewhere = _living_elsewhere([newest[path] for path in back])
    gone_away = set(moved_from.values())
    result = {}
    for change in changes:
        row = newest.get(sources[change.path])
        taken = change.path in elsewhere or (change.path in gone_away and change.after is not None)
        result[change.path] = uuid.uuid4().hex if row is None or taken else row.artifact.uid
    return result


def _living_elsewhere(rows: list[ArtifactVersion]) -> set[str]:
    """The paths of those rows whose artifact has another path now."""
    last: dict[int, ArtifactVersion] = {}
    artifacts = [row.artifact_id for row in rows]
    for start in range(0, len(artifacts), 500):
        for row in ArtifactVersion.objects.filter(artifact__in=artifacts[start : start + 500]).order_by("id"):
            last[row.artifact_id] = row
    return {row.path for row in rows if (now := last[row.artifact_id]).content and now.path != row.path}


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
