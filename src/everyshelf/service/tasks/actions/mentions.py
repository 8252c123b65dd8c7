"""Which commits name which tasks: read from each commit once, in the order of the records."""

from __future__ import annotations

from django.db import transaction

from everyshelf.service.base.acts import aside
from everyshelf.service.shelves.models import Commit, Shelf
from everyshelf.service.tasks.actions.finding import TaskPattern
from everyshelf.service.tasks.actions.settings import settings_of
from everyshelf.service.tasks.models import TaskMention, TaskSettings

_AT_ONCE = 2000


def read_new_commits(shelf: Shelf) -> None:
    """Take in commits made since the last look; all of them once more where the pattern changed."""
    found = settings_of(shelf)
    newest = Commit.objects.filter(shelf=shelf).order_by("-pk").values_list("pk", flat=True).first() or 0
    if found.read_with == found.pattern and newest <= found.seen:
        return
    with aside(), transaction.atomic():
        found, _ = TaskSettings.objects.select_for_update().get_or_create(shelf=shelf)
        if found.read_with != found.pattern:
            TaskMention.objects.filter(shelf=shelf).delete()
            found.read_with, found.seen = found.pattern, 0
        pattern = TaskPattern(found.pattern)
        while rows := list(_commits(shelf, found.seen)):
            TaskMention.objects.bulk_create(
                (TaskMention(shelf=shelf, task=t, commit_id=row[0]) for row in rows for t in _tasks(pattern, row)),
                ignore_conflicts=True,
            )
            found.seen = rows[-1][0]
        found.save(update_fields=["read_with", "seen"])


_Row = tuple[int, str, str, list[str]]


def _commits(shelf: Shelf, seen: int) -> list[_Row]:
    rows = Commit.objects.filter(shelf=shelf, pk__gt=seen).order_by("pk")
    return list(rows.values_list("pk", "summary", "description", "tasks")[:_AT_ONCE])


def _tasks(pattern: TaskPattern, row: _Row) -> dict[str, None]:
    _, summary, description, tasks = row
    said = [task.strip()[:100] for task in tasks if isinstance(task, str) and task.strip()]
    return dict.fromkeys([*said, *pattern.find(summary), *pattern.find(description)])
