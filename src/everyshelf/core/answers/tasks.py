"""Tasks that commits and proposals are for."""

from __future__ import annotations

from datetime import datetime

from everyshelf.core.answers.base import Answer


class TaskRow(Answer):
    """A task, how many commits are for it, when the last was recorded, and where the task is kept."""

    task: str
    commits: int
    last: datetime
    address: str = ""


class TaskPage(Answer):
    """A page of tasks, the one with the newest commit first; ``pattern`` and ``address`` are what is set."""

    pattern: str
    address: str
    items: list[TaskRow]
    next: str | None = None


class TaskCommit(Answer):
    """A commit for the task."""

    commit: str
    summary: str
    author: str
    recorded: datetime


class TaskArtifact(Answer):
    """An artifact that commits for the task changed: how many ``versions``, the newest of them, its headline (`null`
    version: removed), and the strongest effect of all."""

    path: str
    kind: str
    version: int | None
    headline: str
    effect: str
    versions: int


class TaskProposal(Answer):
    """A proposal that names the task."""

    number: int
    title: str
    state: str
    source: str
    target: str


class TaskReached(Answer):
    """How many of the task's commits are in what a branch or an environment has now."""

    place: str
    is_environment: bool
    commits: int
    of: int
    tag: str = ""
    since: datetime | None = None


class TaskAnswer(Answer):
    """A task: its commits, newest first, a page of them; the artifacts they changed, the proposals that name it, and
    where its commits have come to."""

    task: str
    total: int
    commits: list[TaskCommit]
    artifacts: list[TaskArtifact]
    proposals: list[TaskProposal]
    reached: list[TaskReached]
    address: str = ""
    next: str | None = None
