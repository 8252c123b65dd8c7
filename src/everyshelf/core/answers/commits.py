"""One commit or one version, and everything it is part of."""

from __future__ import annotations

from datetime import datetime

from everyshelf.core.answers.base import Answer
from everyshelf.core.answers.merges import ArtifactMerge


class NearCommit(Answer):
    """A commit before or after another; ``merged``: it came in by a merge, not on the same line."""

    commit: str
    summary: str
    author: str
    recorded: datetime
    merged: bool


class TagWith(Answer):
    """A tag that has the commit in it; ``later``: how many commits came after it up to the tag."""

    name: str
    later: int


class ReachedPlace(Answer):
    """An environment; ``reached``: what it has now holds the commit. ``tag`` and ``since``: of what it has now."""

    environment: str
    reached: bool
    tag: str = ""
    since: datetime | None = None


class ProposalWith(Answer):
    """A proposal that proposed the commit, or was merged by it."""

    number: int
    title: str
    state: str
    merged: bool


class RunWith(Answer):
    """A run of an experiment that the commit holds the results of (``made``), or that read it."""

    experiment: str
    question: str
    number: int
    made: bool


class CheckWith(Answer):
    """The newest result of a check of the commit."""

    name: str
    passed: bool
    comment: str


class GitIdOf(Answer):
    """The id the commit has in Git; ``link``: where it went or came from, empty for the repository of the shelf."""

    git: str
    link: str
    fetched: bool
    at: datetime | None = None


class CommitPlaces(Answer):
    """What a commit is part of. ``branches``: those whose line it is in; ``restored``: how many artifacts the state
    holds that restoring would set; ``later``: how many commits the main branch has since;
    ``undone_by``: commits that undid it."""

    commit: str
    parents: list[NearCommit]
    next: list[NearCommit]
    branches: list[str]
    tags: list[TagWith]
    environments: list[ReachedPlace]
    proposals: list[ProposalWith]
    runs: list[RunWith]
    checks: list[CheckWith]
    git: list[GitIdOf]
    tasks: list[str]
    artifacts: int
    restored: int
    later: int
    undone_by: list[NearCommit]


class Undoing(Answer):
    """What undoing a commit would do on top of ``head``, the newest commit of a branch. ``back``: artifacts that get
    what they were before it; ``combined``: artifacts changed since, which lose only what it did; ``already``: how many
    are as before it already; ``open``: artifacts with conflicts to settle, ``open_count`` of them. The lists are
    cut at 200. ``allowed``: whether who asks may commit to the branch."""

    commit: str
    branch: str
    head: str
    allowed: bool
    back_count: int
    back: list[str]
    combined_count: int
    combined: list[str]
    already: int
    open_count: int
    open: list[ArtifactMerge]


class NearVersion(Answer):
    """A version before or after another; ``merged``: the other line of a merge."""

    version: int
    commit: str
    summary: str
    author: str
    recorded: datetime
    effect: str
    headline: str
    merged: bool


class VersionThere(Answer):
    """Which version an environment has (null: none, or one that was made there); ``this``: the one asked for."""

    environment: str
    version: int | None
    this: bool
    tag: str = ""
    since: datetime | None = None


class VersionPlaces(Answer):
    """One version of an artifact and what has it. ``path``: as of that version; ``versions``: how many there are by
    now; ``before``: those it was made of; ``next``: those made of it; ``branches`` and ``tags``: whose state holds
    exactly this version; ``made_by``: the commit that made it, with everything that is part of."""

    artifact: str
    path: str
    moved_from: str
    version: int
    versions: int
    kind: str
    size: int
    content: str
    effect: str
    headline: str
    author: str
    recorded: datetime
    summary: str
    description: str
    labels: dict[str, str]
    before: list[NearVersion]
    next: list[NearVersion]
    branches: list[str]
    tags: list[str]
    environments: list[VersionThere]
    made_by: CommitPlaces
