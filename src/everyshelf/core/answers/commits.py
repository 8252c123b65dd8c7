"""One commit, and everything it is part of."""

from __future__ import annotations

from datetime import datetime

from everyshelf.core.answers.base import Answer


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
    holds that restoring would set; ``later``: how many commits the main branch has since."""

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
