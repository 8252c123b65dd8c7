"""A task: its commits, artifacts and proposals, and how far its commits have come."""

from __future__ import annotations

from typing import Any

from django.db.models import Count, Max, Q

from everyshelf.core.answers.tasks import (
    TaskAnswer,
    TaskArtifact,
    TaskCommit,
    TaskPage,
    TaskProposal,
    TaskReached,
    TaskRow,
)
from everyshelf.core.errors import MissingError
from everyshelf.core.history.names import did_you_mean, nearest
from everyshelf.service.base.paging import decode_cursor, encode_cursor
from everyshelf.service.environments.actions.environments import list_environments
from everyshelf.service.environments.actions.manifests import last_deployment
from everyshelf.service.proposals.models import Proposal
from everyshelf.service.shelves.actions.lineage import lineage_of
from everyshelf.service.shelves.models import ArtifactVersion, Branch, Shelf
from everyshelf.service.tasks.actions.finding import TaskPattern
from everyshelf.service.tasks.actions.mentions import read_new_commits
from everyshelf.service.tasks.actions.settings import address_of, settings_of
from everyshelf.service.tasks.models import TaskMention

_MOST_ROWS = 200
_MOST_ARTIFACTS = 500
_EFFECTS = ("breaks", "alters", "cosmetic")


def list_tasks(shelf: Shelf, limit: int, cursor: str) -> TaskPage:
    """The tasks commits are for, the one with the newest commit first."""
    read_new_commits(shelf)
    start, size = decode_cursor(cursor), max(1, min(limit, _MOST_ROWS))
    rows = (
        TaskMention.objects.filter(shelf=shelf)
        .values("task")
        .annotate(commits=Count("id"), newest=Max("commit_id"), last=Max("commit__recorded"))
        .order_by("-newest", "task")
    )
    page = list(rows[start : start + size + 1])
    found = settings_of(shelf)
    items = [
        TaskRow(task=row["task"], commits=row["commits"], last=row["last"], address=address_of(found, row["task"]))
        for row in page[:size]
    ]
    following = encode_cursor(start + size) if len(page) > size else None
    return TaskPage(pattern=found.pattern, address=found.address, items=items, next=following)


def describe_task(shelf: Shelf, task: str, limit: int, cursor: str) -> TaskAnswer:
    """A task; raises ``MissingError`` (task.missing) where no commit and no proposal names it."""
    read_new_commits(shelf)
    mentions = TaskMention.objects.filter(shelf=shelf, task=task)
    total = mentions.count()
    proposals = _proposals(shelf, task)
    if not total and not proposals:
        known = TaskMention.objects.filter(shelf=shelf).values_list("task", flat=True).distinct()[:2000]
        raise MissingError(
            f"no commit and no proposal of {shelf.name} names the task {task[:60]!r}",
            code="task.missing",
            hint=f"{did_you_mean(nearest(task, known))}List them: everyshelf task list",
        )
    start, size = decode_cursor(cursor), max(1, min(limit, _MOST_ROWS))
    rows = list(mentions.select_related("commit").order_by("-commit_id")[start : start + size + 1])
    numbers = set(mentions.values_list("commit_id", flat=True))
    return TaskAnswer(
        task=task,
        address=address_of(settings_of(shelf), task),
        total=total,
        commits=[
            TaskCommit(
                commit=row.commit.uid,
                summary=row.commit.summary,
                author=row.commit.author,
                recorded=row.commit.recorded,
            )
            for row in rows[:size]
        ],
        next=encode_cursor(start + size) if len(rows) > size else None,
        artifacts=_artifacts(shelf, task),
        proposals=proposals,
        reached=_reached(shelf, numbers),
    )


def _artifacts(shelf: Shelf, task: str) -> list[TaskArtifact]:
    named = TaskMention.objects.filter(shelf=shelf, task=task).values("commit_id")
    rows = ArtifactVersion.objects.filter(shelf=shelf, commit_id__in=named).order_by("-pk")
    found: dict[str, Any] = {}
    for version in rows.only("path", "kind", "effect", "number", "headline")[: 20 * _MOST_ARTIFACTS].iterator():
        known = found.get(version.path)
        if known is None:
            if len(found) == _MOST_ARTIFACTS:
                continue
            known = TaskArtifact(
                path=version.path,
                kind=version.kind,
                version=version.number,
                headline=version.headline,
                effect=version.effect,
                versions=0,
            )
            found[version.path] = known
        known.versions += 1
        known.effect = min(known.effect, version.effect, key=_rank)
    return sorted(found.values(), key=lambda one: (_rank(one.effect), one.path))


def _rank(effect: str) -> int:
    return _EFFECTS.index(effect) if effect in _EFFECTS else len(_EFFECTS)


def _proposals(shelf: Shelf, task: str) -> list[TaskProposal]:
    pattern = TaskPattern(settings_of(shelf).pattern)
    rows = Proposal.objects.filter(shelf=shelf).filter(
        Q(title__contains=task) | Q(description__contains=task) | Q(tasks__icontains=task)
    )
    return [
        TaskProposal(number=one.number, title=one.title, state=one.state, source=one.source, target=one.target)
        for one in rows.order_by("-number")[:_MOST_ROWS]
        if task in one.tasks or task in (*pattern.find(one.title), *pattern.find(one.description))
    ]


def _reached(shelf: Shelf, commits: set[int]) -> list[TaskReached]:
    """The main branch and each environment, with how many of the commits are in what it has now."""
    lineage = lineage_of(shelf)
    main = Branch.objects.filter(shelf=shelf, name=shelf.main_branch).first()
    found = []
    if main is not None and main.head_id is not None:
        inside = len(commits & lineage.ancestors(main.head_id))
        found.append(TaskReached(place=main.name, is_environment=False, commits=inside, of=len(commits)))
    for environment in list_environments(shelf):
        last = last_deployment(environment)
        inside = len(commits & lineage.ancestors(last.commit_id)) if last is not None else 0
        tag = last.tag.name if last is not None and last.tag is not None else ""
        since = last.ended if last is not None else None
        found.append(
            TaskReached(
                place=environment.name, is_environment=True, commits=inside, of=len(commits), tag=tag, since=since
            )
        )
    return found
