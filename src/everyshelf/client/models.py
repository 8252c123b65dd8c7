"""Typed answers of the service. Fields a newer service adds are ignored."""

from __future__ import annotations

from datetime import datetime
from typing import Any

import msgspec

from everyshelf.core.answers.merges import ArtifactMerge
from everyshelf.core.answers.states import ArtifactAt


class Shelf(msgspec.Struct):
    """A shelf in numbers."""

    key: str
    name: str
    description: str
    main_branch: str
    role: str | None
    branches: int
    tags: int
    commits: int
    environments: int
    open_to_all: bool = False
    proposals: int = 0
    experiments: int = 0
    store: str = "main"


class Branch(msgspec.Struct):
    """A branch and its newest commit."""

    name: str
    guarded: bool
    note: str
    main: bool
    head: str | None
    summary: str
    author: str
    recorded: datetime | None
    ahead: int
    behind: int


class Tag(msgspec.Struct):
    """A name that never moves."""

    name: str
    commit: str
    note: str
    selection: list[str] | None
    created: datetime
    created_by: str
    environments: list[str]


class Artifact(ArtifactAt, kw_only=True):
    """An artifact at a moment."""


class ArtifactVersion(Artifact, kw_only=True):
    """A version of an artifact, and whether it is in the line of the ref that was asked for."""

    moved_from: str = ""
    here: bool = True
    removed: bool = False
    description: str = ""
    labels: dict[str, str] = {}


class Commit(msgspec.Struct):
    """A commit."""

    commit: str
    author: str
    time: datetime
    recorded: datetime
    summary: str
    description: str
    labels: dict[str, str]
    tasks: list[str]
    merge: bool
    parents: list[str | None] = []


class CommitListed(Commit):
    """A commit in a list, with what it did: its first artifacts, and the worst effect on any of them."""

    tags: list[str] = []
    artifacts: list[dict[str, Any]] = []
    artifact_count: int = 0
    effect: str = ""


class Account(msgspec.Struct):
    """An account as those see it who run the installation."""

    name: str
    full_name: str
    active: bool
    admin: bool
    joined: datetime
    last_signed_in: datetime | None = None


class Location(msgspec.Struct):
    """A folder, repository, database or server that a shelf uses. ``use``: environment, link or in place;
    ``shared_with``: keys of the other shelves that may also use it."""

    address: str
    use: str
    shelf: str
    taken: datetime
    taken_by: str
    shared_with: list[str]


class CommitMessage(msgspec.Struct):
    """What is said of a commit: its summary of one line, and what else there is to say. ``author`` and ``time``: whose
    work it is and when it was done, where that is not the person who commits, now; who may say so is up to the service.
    """

    summary: str
    description: str = ""
    labels: dict[str, str] = {}
    tasks: list[str] = []
    author: str | None = None
    time: datetime | None = None


class ChangeRequest(msgspec.Struct):
    """A change to commit: new content at a path (perhaps moved from another), or its removal (content None)."""

    path: str
    content: str | None
    moved_from: str = ""


class Content(msgspec.Struct):
    """Stored content; ``size`` in bytes."""

    id: str
    size: int


class BackupMoment(msgspec.Struct):
    """One backup: ``size`` bytes that a restore writes, ``added`` bytes it added, and what was damaged before."""

    name: str
    made: datetime
    size: int
    added: int
    damage: list[str] = []


class Backups(msgspec.Struct):
    """Where, how often (hours) and how many (keep) backups are made; the moments, oldest first, and those that
    cannot be read; why the moments cannot be listed (``problem``); the newest job."""

    folder: str
    hours: int
    keep: int
    moments: list[BackupMoment]
    unreadable: list[str]
    problem: str = ""
    job: Job | None = None


class StoreName(msgspec.Struct):
    """A store where bytes of shelves can live."""

    name: str


class StoreState(msgspec.Struct):
    """A store, for those who run the installation: ``home`` is the bucket or the folder where its versions live (empty:
    the data folder), ``at_home``: bytes that live there, ``to_move``: bytes that wait to be moved there."""

    name: str
    home: str = ""
    shelves: int = 0
    at_home: int = 0
    to_move: int = 0


class ShelfStore(msgspec.Struct):
    """The store where the bytes of a shelf live, and the newest job that copied them."""

    store: str
    moving: Job | None = None


class Storage(msgspec.Struct):
    """What the store of an installation holds, in bytes.

    ``versions_bytes``: all versions written out; ``stored``: what they take; ``deltas``: how many pieces are kept as
    what they change, and ``saved`` what that has saved; ``waiting``: versions that tidying has not looked at;
    ``unreached``: contents that were sent and never used, and ``frees`` when the first of them goes; ``hours``: how
    often it runs (0: only when asked), ``tidied`` when it last did, and its newest job; ``home``: where the versions of
    the main store live (empty: in the data folder), ``at_home``: bytes that live there, ``to_move``: bytes that wait to
    be moved there, ``fetched``: bytes of buckets kept on that machine, the newest job that moves, and all ``stores``.
    """

    versions: int
    versions_bytes: int
    stored: int
    deltas: int
    saved: int
    waiting: int
    unreached: int
    unreached_bytes: int
    hours: int
    frees: datetime | None = None
    tidied: datetime | None = None
    job: Job | None = None
    home: str = ""
    at_home: int = 0
    to_move: int = 0
    fetched: int = 0
    moving: Job | None = None
    stores: list[StoreState] = []


class UnusedContent(msgspec.Struct):
    """A content that was sent to a shelf and never used: since when that is known, and when it is let go of."""

    content: str
    size: int
    shelf: str
    since: datetime
    frees: datetime


class UnusedPage(msgspec.Struct):
    """A page of them; ``next`` leads to the following one."""

    items: list[UnusedContent]
    next: int | None


class Merge(msgspec.Struct):
    """What a merge gave: its commit (None if there was nothing to merge), how many artifacts it took over, and how many
    of them both sides had changed."""

    commit: str | None
    base: str | None
    taken: int
    combined: int = 0


class WaitingMerge(msgspec.Struct):
    """A merge that waits to be settled. ``open``: conflicts left; ``artifacts``: with one merge only."""

    id: str
    target: str
    source: str
    state: str
    summary: str
    delete_source: bool
    created: datetime
    created_by: str
    decided: int
    commit: str | None
    open: int = 0
    artifacts: list[ArtifactMerge] = []


class SavePoint(msgspec.Struct):
    """What an artifact was in a draft (content None: gone), and the commit that took it up."""

    point: int
    path: str
    moved_from: str
    state: str
    content: str | None
    size: int
    made: datetime
    commit: str | None


class Draft(msgspec.Struct):
    """A draft of one's own: the commit it builds on, the branch's head, and what is pending; ``until``: when that is
    discarded if nothing more is saved."""

    branch: str
    base: str | None
    head: str | None
    behind: bool
    saved: datetime | None
    entries: list[SavePoint]
    until: datetime | None = None


class Saving(msgspec.Struct):
    """An edit to keep: uploaded content at a path, None where it is gone; ``onto`` the save point it was made on (0:
    none; None: do not ask)."""

    path: str
    content: str | None
    moved_from: str = ""
    onto: int | None = None


class Deployment(msgspec.Struct):
    """One promotion."""

    deployment: str
    number: int
    tag: str
    commit: str
    state: str
    who: str
    reason: str
    forced: list[dict[str, Any]]
    steps: list[dict[str, Any]]
    side_effects: list[str]
    counts: dict[str, int]
    begun: datetime
    ended: datetime | None
    took_seconds: float | None
    rolled_back_to: int | None


class Environment(msgspec.Struct):
    """An environment and what runs there."""

    name: str
    route: str
    position: int
    destination: str
    address: str
    has_token: bool
    subfolder: str
    records: list[str]
    fed_from: str
    earlier_first: bool
    gates: dict[str, Any]
    left_out: dict[str, list[str]]
    note: str
    trial_of: str | None
    made_by: str
    expires: datetime | None
    watch_minutes: int
    drift: list[dict[str, Any]]
    drift_checked: datetime | None
    drift_problem: str
    bindings: dict[str, int]
    current: Deployment | None
    before: Deployment | None
    waiting: str | None


class Binding(msgspec.Struct):
    """A value that differs per environment; of a secret one only whether it is set."""

    name: str
    secret: bool
    set: bool
    value: str | None
    artifacts: list[str]
    set_by: str
    set_at: datetime | None


class Job(msgspec.Struct):
    """Long work."""

    job: str
    kind: str
    state: str
    done: int
    total: int
    note: str
    result: dict[str, Any] | None
    problem: dict[str, Any] | None

    @property
    def ended(self) -> bool:
        """Whether it came to an end, good or bad."""
        return self.state in ("done", "failed", "cancelled")


class Token(msgspec.Struct):
    """A token without its value."""

    name: str
    beginning: str
    scopes: list[str]
    created: datetime
    expires: datetime | None
    last_used: datetime | None


class MadeToken(Token):
    """A new token with its value, which is shown this once."""

    value: str = ""


class Member(msgspec.Struct):
    """Somebody with a role on a shelf."""

    person: str
    full_name: str
    role: str


class Invitation(msgspec.Struct):
    """An invitation without its secret; ``state``: open, accepted, withdrawn or expired."""

    id: str
    role: str
    note: str
    state: str
    created: datetime
    created_by: str
    expires: datetime
    accepted_by: str | None


class MadeInvitation(Invitation):
    """A new invitation with its secret, which is shown this once."""

    value: str = ""


class SeenInvitation(msgspec.Struct):
    """What an invitation offers."""

    shelf: str
    shelf_name: str
    role: str
    by: str
    expires: datetime


class Joined(msgspec.Struct):
    """Who joined which shelf, as what."""

    person: dict[str, str]
    shelf: str
    role: str


class LogEntry(msgspec.Struct):
    """Who did what: ``words`` go between the person and the subject; ``via`` is the token used."""

    entry: int
    time: datetime
    person: str
    via: str
    shelf: str | None
    act: str
    words: str
    subject: str
    detail: dict[str, Any]
