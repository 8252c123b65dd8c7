"""A shelf's commits as Git has them."""

from __future__ import annotations

from datetime import datetime

from everyshelf.core.answers.base import Answer


class GitCommit(Answer):
    """A commit of the shelf beside its id in Git: null before it was first asked for. ``came``: it was made with Git;
    ``kept``: what it holds there beyond what the shelf has a place for, in words."""

    commit: str
    git: str | None
    summary: str
    author: str
    recorded: datetime
    came: bool = False
    kept: list[str] = []


class GitPage(Answer):
    """A page of the shelf's commits, those recorded last first. ``address``: where Git finds the shelf, below the
    address of the service. ``total``: how many commits the shelf has."""

    address: str
    total: int
    items: list[GitCommit]
    next: str | None = None


class GitLine(Answer):
    """A branch and its other side: ``in step``, ``ahead``, ``behind``, ``diverged`` or ``refused``. ``merge``: the
    merge that waits to be settled."""

    branch: str
    git: str
    state: str
    ahead: int = 0
    behind: int = 0
    merge: str = ""
    why: str = ""
    hint: str = ""


class GitProblem(Answer):
    """Why a link is refused or has diverged, and what to do about it."""

    detail: str
    hint: str
    code: str


class GitLinkAnswer(Answer):
    """A link between a shelf and a repository. ``joins``: branches as pairs of names, of the shelf and of Git;
    empty: all. ``folder``: the one folder or artifact it is about, ``place``: where that is in the repository.
    ``parts``: whether the parts of files lie there ``beside`` them, ``instead`` of them or not (``none``).
    ``looked``: when both sides were last compared; ``next_look``: when a link that follows looks again."""

    name: str
    address: str
    user: str
    has_token: bool
    has_key: bool
    way: str
    joins: list[list[str]]
    tags: bool
    follows: bool
    every_seconds: int
    made_by: str
    state: str
    lines: list[GitLine]
    folder: str = ""
    place: str = ""
    parts: str = "none"
    problem: GitProblem | None = None
    since: datetime | None = None
    looked: datetime | None = None
    next_look: datetime | None = None


class GitCalls(Answer):
    """Where the other side of a link says that it has something new, below the address of the service, and the secret
    that signs it; shown once."""

    address: str
    secret: str


class GitTransferAnswer(Answer):
    """A commit that went over a link, under both of its ids."""

    at: datetime
    fetched: bool
    branch: str
    commit: str
    git: str
    summary: str
    author: str


class GitTried(Answer):
    """What a link found when it was tried, and what it would do; nothing moved. ``odd_names``: branches and tags there
    that a shelf cannot have."""

    branches_there: list[str]
    tags: int
    would_send: int
    would_fetch: int
    may_write: bool
    odd_names: list[str] = []


class GitLinkShown(Answer):
    """A link with what went over it, newest first."""

    link: GitLinkAnswer
    transfers: list[GitTransferAnswer]
