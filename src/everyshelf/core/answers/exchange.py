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
