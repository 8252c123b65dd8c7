"""Recording a commit: its bytes made durable first, then all its records in one transaction."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta

from django.utils import timezone

from everyshelf.core.errors import ConflictError, InvalidError, RefusedError
from everyshelf.core.history import marking
from everyshelf.core.history.commits import CommitData, Move, encode_commit
from everyshelf.core.history.trees import Change
from everyshelf.core.kinds.rules import Rules
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.context import get_store, get_trees
from everyshelf.service.jobs.actions import start_job
from everyshelf.service.log.actions import note
from everyshelf.service.rights import Caller, may, require
from everyshelf.service.shelves.actions.recognising import recognise_changes
from everyshelf.service.shelves.actions.versions import artifacts_before, record_versions
from everyshelf.service.shelves.models import Branch, Commit, CommitParent, Shelf

_SOONEST = timedelta(microseconds=1)
_BEFORE_ALL = datetime.min.replace(tzinfo=UTC)
# Told how far a long commit is: done, total, and a note.
Progress = Callable[[int, int, str], None]


def no_progress(_done: int, _total: int, _note: str) -> None:
    """For commits that nobody watches."""


def soonest(parents: Iterable[Commit]) -> datetime:
    """The first moment at which a commit on top of these may be recorded."""
    return soonest_after(parent.recorded for parent in parents)


def soonest_after(moments: Iterable[datetime]) -> datetime:
    """The first moment at which a commit may be recorded on top of those recorded then."""
    return max((moment + _SOONEST for moment in moments), default=_BEFORE_ALL)


@dataclass(frozen=True)
class CommitMessage:
    """What people say about a commit."""

    summary: str
    description: str = ""
    labels: dict[str, str] = field(default_factory=dict)
    tasks: list[str] = field(default_factory=list)
    author: str | None = None
    time: datetime | None = None


def require_branch(caller: Caller, shelf: Shelf, branch: Branch) -> None:
    """Return if the caller may commit to the branch."""
    require(caller, shelf, _right_to(branch))


def may_commit(caller: Caller, shelf: Shelf, branch: Branch) -> bool:
    """As ``require_branch``, for those who only want to know."""
    return may(caller, shelf, _right_to(branch))


def _right_to(branch: Branch) -> str:
    return "commit to a guarded branch" if branch.guarded else "commit"


def checked_message(caller: Caller, message: CommitMessage) -> CommitMessage:
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
    return marking.marked(get_store(), get_trees(), before, after)


def rules_at(root: str) -> Rules:
    """The rules of the shelf in this state; without a readable ``shelf.toml``, empty ones."""
    return marking.rules_at(get_store(), get_trees(), _ruled_as.get(root, root))


_ruled_as: dict[str, str] = {}
_MOST_RULED = 1_000


def rule_as(root: str, other: str) -> None:
    """Let a state that is a part of another one have the rules of that."""
    if root != other:
        _ruled_as.pop(root, None)
        _ruled_as[root] = other
        while len(_ruled_as) > _MOST_RULED:
            _ruled_as.pop(next(iter(_ruled_as)))


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
                for follow in _after_recording:
                    follow(self.caller, branch, commit)
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
        record_versions(self.shelf, commit, self.changes, self.kinds, self.artifacts, self.moved_from, self.known)
        return commit


_after_recording: list[Callable[[Caller, Branch, Commit], None]] = []


def after_recording(follow: Callable[[Caller, Branch, Commit], None]) -> None:
    """Register what else a commit on a branch brings about; it runs in the transaction that records it."""
    _after_recording.append(follow)


def prepare_commit(
    caller: Caller,
    shelf: Shelf,
    branch: Branch | None,
    parents: list[Commit],
    root: str,
    message: CommitMessage,
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
    kinds = recognise_changes(rules_at(root), fresh, lambda done, path: progress(done, len(fresh), path))
    artifacts = artifacts_before(shelf, changes, {new: old for old, new in moves})
    now = timezone.now()
    # Times of a line grow, whatever the clock does: else the state at a moment would not be the newest by then.
    recorded = max([recorded or message.time or now, soonest(parents)])
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
    message: CommitMessage,
    moves: Iterable[tuple[str, str]] = (),
    *,
    recorded: datetime | None = None,
) -> Commit:
    """Prepare a commit and record it."""
    return prepare_commit(caller, shelf, branch, parents, root, message, moves, recorded=recorded).record()


def _commit_data(
    root: str,
    parents: list[Commit],
    message: CommitMessage,
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
