"""What others did on a shelf since the caller last looked."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from django.db.models import QuerySet
from django.utils import timezone

from everyshelf.core.answers.news import MOST_COUNTED, News, NewsItem
from everyshelf.core.errors import InvalidError
from everyshelf.service.base.acts import one_act
from everyshelf.service.log.actions import ACTS, STEPS, newest_entry
from everyshelf.service.log.models import LogEntry
from everyshelf.service.news.actions.following import paths_of
from everyshelf.service.news.models import Followed, LastLook
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.shelves import visible_shelves
from everyshelf.service.shelves.models import ArtifactVersion, Commit, Shelf

MOST_ITEMS = 200
_BEFORE_FIRST_LOOK = timedelta(days=14)
# Entries that are looked through for what is followed.
_MOST_LOOKED_AT = 2000
_MOST_PUSHED = 500


def news_everywhere(caller: Caller, limit: int) -> list[News]:
    """The news of each shelf the caller may see and that has any, the newest first."""
    looks = dict(LastLook.objects.filter(person=caller.person).values_list("shelf_id", "entry"))
    found = []
    for shelf in visible_shelves(caller):
        newest = _others(caller, shelf).order_by("-pk").values_list("pk", flat=True).first()
        if newest is not None and newest > looks.get(shelf.pk, 0):  # most shelves have none: one question each
            found.append(news_of(caller, shelf, limit))
    return sorted((one for one in found if one.count), key=lambda one: -one.items[0].entry)


def news_of(
    caller: Caller,
    shelf: Shelf,
    limit: int,
    *,
    before: int | None = None,
    followed: bool = False,
    all_time: bool = False,
) -> News:
    """What others did since the caller last looked, newest first; ``next`` is what ``before`` of the next page is.
    ``followed``: only what is about something they follow. ``all_time``: also what they have seen."""
    look = LastLook.objects.filter(shelf=shelf, person=caller.person).first()
    newest = newest_entry()
    rows = _others(caller, shelf).filter(pk__lte=newest)  # what comes while this is read stays new
    seen = look.entry if look else _before_first_look(rows)
    new = rows.filter(pk__gt=seen)
    about = _Followed(caller, shelf)
    shown = (rows if all_time else new).order_by("-pk")
    if before is not None:
        shown = shown.filter(pk__lt=before)
    size = max(1, min(limit, MOST_ITEMS))
    if followed:
        entries = list(shown[:_MOST_LOOKED_AT])
        items = [item for item in about.told(entries) if item.follows]
        rest = entries[-1].pk if len(entries) == _MOST_LOOKED_AT else None
    else:
        items = about.told(list(shown[: size + 1]))
        rest = None
    return News(
        shelf=shelf.key,
        shelf_name=shelf.name,
        since=look.time if look else None,
        seen=seen,
        newest=newest,
        count=new[:MOST_COUNTED].count(),
        items=items[:size],
        next=items[size - 1].entry if len(items) > size else rest,
    )


def look_up_to(caller: Caller, shelf: Shelf, entry: int) -> News:
    """Say that what was done up to an entry of the log is seen; a lower number makes the rest new again."""
    if not 0 <= entry <= newest_entry():
        raise InvalidError(
            f"the log has no entry {entry}", code="news.entry", hint="Send `newest` of the news that were shown."
        )
    with one_act():
        LastLook.objects.update_or_create(
            shelf=shelf, person=caller.person, defaults={"entry": entry, "time": timezone.now()}
        )
    return news_of(caller, shelf, 1)


def _others(caller: Caller, shelf: Shelf) -> QuerySet[LogEntry]:
    return LogEntry.objects.filter(shelf=shelf.key).exclude(person=caller.person.username).exclude(act__in=STEPS)


def _before_first_look(rows: QuerySet[LogEntry]) -> int:
    """Who never looked has seen all but the last two weeks."""
    earlier = rows.filter(time__lte=timezone.now() - _BEFORE_FIRST_LOOK).order_by("-pk").values_list("pk", flat=True)
    return earlier.first() or 0


class _Followed:
    """Which entries are about something a person follows."""

    def __init__(self, caller: Caller, shelf: Shelf) -> None:
        self._shelf = shelf
        rows = list(Followed.objects.filter(shelf=shelf, person=caller.person))
        self._branches = {row.branch for row in rows if row.branch}
        self._artifacts = paths_of([row.artifact_id for row in rows if row.artifact_id])

    def told(self, entries: list[LogEntry]) -> list[NewsItem]:
        """The entries with their words, and what of them is followed."""
        touched = self._touched(entries)
        return [
            NewsItem(
                entry=entry.pk,
                time=entry.time,
                person=entry.person,
                act=entry.act,
                words=ACTS.get(entry.act, entry.act),
                subject=entry.subject,
                commit=str(_commit_of(entry) or ""),
                branch=str(entry.detail.get("branch") or ""),
                follows=[*sorted(self._branches & _branches_of(entry)), *touched.get(entry.pk, ())],
            )
            for entry in entries
        ]

    def _touched(self, entries: list[LogEntry]) -> dict[int, list[str]]:
        """Paths of followed artifacts that each entry's commits have a version of."""
        if not self._artifacts:
            return {}
        heads = {str(uid): entry for entry in entries if (uid := _commit_of(entry))}
        commits = Commit.objects.filter(shelf=self._shelf, uid__in=list(heads)).only("pk", "uid")
        entry_of: dict[int, int] = {}
        for commit in commits:
            entry = heads[commit.uid]
            entry_of[commit.pk] = entry.pk
            for pk in self._pushed_before(commit, int(entry.detail.get("commits") or 1) - 1):
                entry_of.setdefault(pk, entry.pk)
        found: dict[int, list[str]] = {}
        versions = ArtifactVersion.objects.filter(artifact__in=list(self._artifacts), commit__in=list(entry_of))
        for commit_pk, artifact in versions.order_by("pk").values_list("commit_id", "artifact_id"):
            path = self._artifacts[artifact]
            names = found.setdefault(entry_of[commit_pk], [])
            if path not in names:
                names.append(path)
        return found

    def _pushed_before(self, head: Commit, number: int) -> list[int]:
        """Commits that came in the same act as their head: they were written one after another."""
        if number <= 0:
            return []
        earlier = Commit.objects.filter(shelf=self._shelf, pk__lt=head.pk).order_by("-pk")
        return list(earlier.values_list("pk", flat=True)[: min(number, _MOST_PUSHED)])


def _commit_of(entry: LogEntry) -> Any:
    return entry.detail.get("commit") or (entry.detail.get("head") if entry.act.startswith("git.") else None)


def _branches_of(entry: LogEntry) -> set[str]:
    named = {entry.detail.get(name) for name in ("branch", "source", "target")}
    if entry.act.startswith(("branch.", "git.")):
        named.add(entry.subject)
    return {name for name in named if isinstance(name, str)}
