"""Recording a line of many commits at once: what each does to the artifacts is worked out in memory, and all rows are
written together. The rules are those of ``versions.py``, where one commit is recorded."""

from __future__ import annotations

import uuid
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime

import msgspec
from django.db.models import Max

from everyshelf.core.history.commits import CommitData, Move, encode_commit
from everyshelf.core.history.names import tail_of
from everyshelf.core.history.trees import Change
from everyshelf.service.base.context import get_store, get_trees
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.contents import hold
from everyshelf.service.shelves.actions.recording import CommitMessage, soonest
from everyshelf.service.shelves.models import Artifact, ArtifactVersion, Commit, CommitParent, Shelf

_BATCH = 500


@dataclass(frozen=True)
class LineCommit:
    """A commit to be recorded. ``parents``: commits that are recorded, or places in the line. ``moves``: new path ->
    old path. ``keep``: what to keep for Git, given its id without; asked again with an empty id where that is taken."""

    parents: Sequence[Commit | int]
    root: str
    message: CommitMessage
    time: datetime
    recorded: datetime
    changes: Sequence[Change]
    kinds: Mapping[str, str]
    moves: Mapping[str, str]
    keep: Callable[[str], bytes]


@dataclass
class _Known:
    """An artifact as far as the line has come. ``content``: empty where it was removed."""

    artifact: Artifact
    path: str
    content: str


@dataclass
class _Ledger:
    """The newest version at each path, and of each artifact, as they change along the line."""

    shelf: Shelf
    at: dict[str, _Known | None] = field(default_factory=dict)  # by path: whose version was the newest there
    last: dict[str, _Known] = field(default_factory=dict)  # by artifact
    fresh: dict[str, Artifact] = field(default_factory=dict)
    touched: dict[str, Artifact] = field(default_factory=dict)

    def load(self, paths: Iterable[str]) -> None:
        """Look up what the records say of these paths."""
        wanted = list(set(paths) - self.at.keys())
        self.at.update(dict.fromkeys(wanted))
        for start in range(0, len(wanted), _BATCH):
            rows = ArtifactVersion.objects.filter(shelf=self.shelf, path__in=wanted[start : start + _BATCH])
            for row in _newest(rows, "path"):
                self.at[row.path] = _Known(row.artifact, row.path, row.content)
        artifacts = {known.artifact.pk: known.artifact for known in self.at.values() if known is not None}
        keys = [key for key, artifact in artifacts.items() if artifact.uid not in self.last]
        for start in range(0, len(keys), _BATCH):
            of_them = ArtifactVersion.objects.filter(artifact__in=keys[start : start + _BATCH])
            for row in _newest(of_them, "artifact"):
                artifact = artifacts[row.artifact_id]
                self.last[artifact.uid] = _Known(artifact, row.path, row.content)
        for known in self.at.values():  # one object for each artifact, whose count of versions grows
            if known is not None and known.artifact.uid in self.last:
                known.artifact = self.last[known.artifact.uid].artifact

    def artifacts_of(self, changes: Sequence[Change], moves: Mapping[str, str]) -> dict[str, Artifact]:
        """By path: the artifact known there, the one that moved there, or a new one."""
        left = set(moves.values())
        found: dict[str, Artifact] = {}
        for change in changes:
            known = self.at.get(moves.get(change.path, change.path))
            taken = change.path in left and change.after is not None
            if known is not None and change.before is None and change.path not in moves:
                now = self.last[known.artifact.uid]
                taken = taken or bool(now.content and now.path != known.path)
            found[change.path] = self._new() if known is None or taken else known.artifact
        return found

    def _new(self) -> Artifact:
        artifact = Artifact(shelf=self.shelf, uid=uuid.uuid4().hex)
        self.fresh[artifact.uid] = artifact
        return artifact

    def note(self, change: Change, artifact: Artifact) -> int | None:
        """That a commit did this to an artifact; gives the number of its version, None for a removal."""
        known = _Known(artifact, change.path, change.after.id if change.after is not None else "")
        self.at[change.path] = known
        self.last[artifact.uid] = known
        self.touched[artifact.uid] = artifact
        if change.after is None:
            return None
        artifact.versions_made += 1
        return artifact.versions_made


def _newest(rows: object, by: str) -> Iterable[ArtifactVersion]:
    """The newest of these versions for each value of a column, with its artifact."""
    keys = rows.order_by().values(by).annotate(newest=Max("id")).values_list("newest", flat=True)  # type: ignore[attr-defined]
    return ArtifactVersion.objects.filter(pk__in=list(keys)).select_related("artifact")


def record_line(caller: Caller, shelf: Shelf, line: Sequence[LineCommit]) -> list[Commit]:
    """Record commits, parents before children, in the transaction that is open. Their bytes are made durable first."""
    ledger = _Ledger(shelf)
    ledger.load(path for one in line for c in one.changes for path in (c.path, one.moves.get(c.path, c.path)))
    commits: list[Commit] = []
    uids: set[str] = set()
    kept: dict[str, int] = {}
    parents: list[list[Commit]] = []
    versions: list[tuple[Commit, Artifact, ArtifactVersion]] = []
    for one in line:
        above = [commits[parent] if isinstance(parent, int) else parent for parent in one.parents]
        commit, artifacts = _commit(caller, shelf, one, above, ledger, uids, kept)
        versions += [(commit, artifacts[v.path], v) for v in _versions(shelf, one, above, artifacts, ledger)]
        uids.add(commit.uid)
        commits.append(commit)
        parents.append(above)
    get_store().sync()
    Commit.objects.bulk_create(commits, batch_size=_BATCH)
    CommitParent.objects.bulk_create(
        (
            CommitParent(commit=commit, parent=parent, position=place)
            for commit, above in zip(commits, parents, strict=True)
            for place, parent in enumerate(above)
        ),
        batch_size=_BATCH,
    )
    used = {artifact.uid for _, artifact, _ in versions}
    Artifact.objects.bulk_create([a for uid, a in ledger.fresh.items() if uid in used], batch_size=_BATCH)
    old = [artifact for uid, artifact in ledger.touched.items() if uid not in ledger.fresh]
    Artifact.objects.bulk_create(
        old, batch_size=_BATCH, update_conflicts=True, unique_fields=["id"], update_fields=["versions_made"]
    )
    for commit, artifact, version in versions:
        version.commit, version.artifact = commit, artifact
    ArtifactVersion.objects.bulk_create((version for _, _, version in versions), batch_size=_BATCH)
    hold(shelf, kept)
    return commits


def _commit(
    caller: Caller,
    shelf: Shelf,
    one: LineCommit,
    above: list[Commit],
    ledger: _Ledger,
    uids: set[str],
    held: dict[str, int],
) -> tuple[Commit, dict[str, Artifact]]:
    store, message = get_store(), one.message
    artifacts = ledger.artifacts_of(one.changes, one.moves)
    data = CommitData(
        root=one.root,
        parents=[parent.uid for parent in above],
        author=message.author or "",
        time=one.time.isoformat(timespec="microseconds"),
        summary=message.summary,
        description=message.description,
        labels=message.labels,
        tasks=message.tasks,
        moves=[Move(artifacts[new].uid, old, new) for new, old in one.moves.items() if new in artifacts],
    )
    uid, body = encode_commit(data)
    kept = one.keep(uid)
    # The id names the parents: one with a parent that is only recorded now cannot be on the shelf.
    may_be_there = all(parent.pk is not None for parent in above)
    if not kept and (uid in uids or (may_be_there and Commit.objects.filter(shelf=shelf, uid=uid).exists())):
        kept = one.keep("")  # another commit of Git says the same, and was recorded at another time
    if kept:
        info = store.put(kept)
        held[info.id] = info.size
        data = msgspec.structs.replace(data, git=info.id)
        uid, body = encode_commit(data)
    store.put(body)
    commit = Commit(
        shelf=shelf,
        uid=uid,
        root=one.root,
        author=data.author,
        time=one.time,
        recorded=max([one.recorded, soonest(above)]),
        recorded_by=caller.person,
        summary=data.summary,
        description=data.description,
        labels=data.labels,
        tasks=data.tasks,
        generation=1 + max((parent.generation for parent in above), default=0),
    )
    return commit, artifacts


def _versions(
    shelf: Shelf, one: LineCommit, above: list[Commit], artifacts: Mapping[str, Artifact], ledger: _Ledger
) -> Iterable[ArtifactVersion]:
    """What the commit did to each artifact; what it takes from another parent is a version already."""
    trees = get_trees()
    before = above[0].root if above else trees.empty
    known = {c.path: c.after.id for p in above[1:] for c in trees.changes(before, p.root) if c.after is not None}
    left = set(one.moves.values())
    for change in one.changes:
        is_new = change.after is None or known.get(change.path) != change.after.id
        if not is_new or (change.path in left and change.after is None):
            continue
        number = ledger.note(change, artifacts[change.path])
        yield ArtifactVersion(
            shelf=shelf,
            path=change.path,
            tail=tail_of(change.path),
            moved_from=one.moves.get(change.path, ""),
            number=number,
            content=change.after.id if change.after is not None else "",
            size=change.after.size if change.after is not None else 0,
            kind=one.kinds.get(change.path, ""),
        )
