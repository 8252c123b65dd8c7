"""History: the commits of a line, all or filtered, page by page.

A page that follows is of the same state: its cursor names the commit at the end of the line as it was asked for first,
and the last commit that was shown.
"""

from __future__ import annotations

import base64
import binascii
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.db.models import Count, Q

from everyshelf.core.errors import InvalidError
from everyshelf.core.history.commit_sets import CommitSet
from everyshelf.core.history.names import did_you_mean, nearest
from everyshelf.core.kinds.registry import kind_ids
from everyshelf.core.outline.model import EFFECTS
from everyshelf.service.shelves.actions.lineage import lineage_of
from everyshelf.service.shelves.actions.listing import commit_json
from everyshelf.service.shelves.actions.refs import Resolved
from everyshelf.service.shelves.models import ArtifactVersion, Commit, Shelf, Tag

MAX_PAGE = 1000
_SHOWN_OF_COMMIT = 20


@dataclass(frozen=True)
class Sought:
    """Filters for the commits of a line; an empty field filters nothing.

    ``start``: only those its line lacks. ``since`` and ``until``: when they were recorded. ``label``: KEY or KEY=VALUE.
    ``path``: an artifact, under all of its names, or what lies in a folder. ``effect``, ``kind``: of one artifact at
    least. ``words``: all of them in the summary or the description. ``order``: newest or oldest first.
    """

    start: Resolved | None = None
    since: datetime | None = None
    until: datetime | None = None
    by: str = ""
    label: str = ""
    task: str = ""
    path: str = ""
    kind: str = ""
    effect: str = ""
    words: str = ""
    order: str = "newest"

    @property
    def oldest_first(self) -> bool:
        """Whether the oldest comes first."""
        return self.order == "oldest"


def list_commits(
    shelf: Shelf, at: Resolved, sought: Sought | None = None, *, limit: int = 100, cursor: str = ""
) -> dict[str, Any]:
    """Commits in the line of a ref, each with what it did to how many artifacts; ``total`` counts those that are
    sought."""
    sought = sought or Sought()
    _known("order", sought.order, ("newest", "oldest"))
    head, last = _decoded(cursor) if cursor else (at.commit.pk if at.commit is not None else None, None)
    if head is None:
        return {"items": [], "total": 0, "next": None}
    if cursor and not Commit.objects.filter(shelf=shelf, pk=head).exists():
        raise _no_cursor()
    line = lineage_of(shelf).ancestors(head)
    if sought.start is not None and sought.start.commit is not None:
        line = line - lineage_of(shelf).ancestors(sought.start.commit.pk)
    found, size = _among(shelf, line, sought), min(limit, MAX_PAGE)
    asked = found.page(size + 1, after=last, newest_first=not sought.oldest_first)
    page = asked[:size]
    more = len(asked) > size
    return {"items": _described(shelf, page), "total": len(found), "next": _encoded(head, page[-1]) if more else None}


def _encoded(head: int, last: int) -> str:
    return base64.urlsafe_b64encode(f"{head}.{last}".encode()).decode()


def _decoded(cursor: str) -> tuple[int, int]:
    try:
        head, _, last = base64.urlsafe_b64decode(cursor.encode()).decode("ascii").partition(".")
        return int(head), int(last)
    except (binascii.Error, ValueError) as error:
        raise _no_cursor() from error


def _no_cursor() -> InvalidError:
    return InvalidError("the cursor is not one given out here", code="input.cursor", hint="Start again.")


# --- looking for some of them ------------------------------------------------------------


def _among(shelf: Shelf, line: CommitSet, sought: Sought) -> CommitSet:
    """Those of a line that are sought."""
    wanted = Q()
    if sought.since is not None:
        wanted &= Q(recorded__gte=sought.since)
    if sought.until is not None:
        wanted &= Q(recorded__lte=sought.until)
    if sought.by:
        wanted &= Q(author__iexact=sought.by)
    for word in sought.words.split():
        wanted &= Q(summary__icontains=word) | Q(description__icontains=word)
    found = line
    if wanted:
        found = found & set(Commit.objects.filter(wanted, shelf=shelf).values_list("pk", flat=True))
    if sought.label or sought.task:
        rows = Commit.objects.filter(shelf=shelf).exclude(labels={}, tasks=[]).values_list("pk", "labels", "tasks")
        found = found & {
            pk for pk, labels, tasks in rows if has_label(labels, sought.label) and _is_for(tasks, sought.task)
        }
    if sought.path or sought.kind or sought.effect:
        found = found & _touching(shelf, sought)
    return found


def has_label(labels: dict[str, str], label: str) -> bool:
    """Whether there is a label KEY, or KEY=VALUE; any there are if ``label`` is empty."""
    key, has_value, value = label.partition("=")
    return not label or (key in labels and (not has_value or labels[key] == value))


def _is_for(tasks: list[str], task: str) -> bool:
    return not task or any(one.casefold() == task.casefold() for one in tasks)


def _touching(shelf: Shelf, sought: Sought) -> set[int]:
    """Commits that did something of this kind and effect to what is at a path."""
    _known("effect", sought.effect, EFFECTS)
    _known("kind", sought.kind, kind_ids())
    versions = ArtifactVersion.objects.filter(shelf=shelf)
    if sought.kind:
        versions = versions.filter(kind=sought.kind)
    if sought.effect:
        versions = versions.filter(effect=sought.effect)
    if not sought.path:
        return set(versions.order_by().values_list("commit", flat=True).distinct())
    path = sought.path.rstrip("/")
    # Below a folder: the text that follows "/" is "0", so that an index can answer.
    there = Q(path=path) | Q(path__gte=f"{path}/", path__lt=f"{path}0")
    left = Q(moved_from=path) | Q(moved_from__gte=f"{path}/", moved_from__lt=f"{path}0")
    found = set(versions.filter(there).order_by().values_list("commit", flat=True).distinct())
    found |= set(versions.filter(left).order_by().values_list("commit", flat=True))
    itself = ArtifactVersion.objects.filter(shelf=shelf, path=path).order_by().values_list("artifact", flat=True)
    for one in set(itself):
        found |= set(versions.filter(artifact=one).values_list("commit", flat=True))
    return found


def _known(name: str, said: str, words: Sequence[str]) -> None:
    if said and said not in words:
        hint = f"{did_you_mean(nearest(said, words))}Known are {', '.join(words)}."
        raise InvalidError(f"{name} cannot be {said[:40]!r}", code="input.unknown", pointer=f"/{name}", hint=hint)


# --- a page of them ----------------------------------------------------------------------


def _described(shelf: Shelf, page: list[int]) -> list[dict[str, Any]]:
    lineage = lineage_of(shelf)
    rows = {c.pk: c for c in Commit.objects.filter(pk__in=page)}
    names = {key: commit.uid for key, commit in rows.items()}
    beyond = {parent for number in page for parent in lineage.parents(number)} - rows.keys()
    names |= dict(Commit.objects.filter(pk__in=beyond).values_list("pk", "uid"))
    tags: dict[int, list[str]] = defaultdict(list)
    for commit_id, name in Tag.objects.filter(commit__in=page).order_by("name").values_list("commit_id", "name"):
        tags[commit_id].append(name)
    touched, worst = _touched_by(page), _worst_of(page)
    items = []
    for number in page:
        commit = rows[number]
        versions, count = touched[number]
        items.append(
            {
                **commit_json(commit, lineage),
                "tags": tags.get(number, []),
                "parents": [names[parent] for parent in lineage.parents(number)],
                "artifacts": [
                    {
                        "path": v.path,
                        "version": v.number,
                        "kind": v.kind,
                        "effect": v.effect,
                        "headline": v.headline,
                        "removed": not v.content,
                    }
                    for v in versions
                ],
                "artifact_count": count,
                "effect": worst.get(number, ""),
            }
        )
    return items


def _worst_of(commits: list[int]) -> dict[int, str]:
    """The worst effect that each commit had on an artifact, of all it touched."""
    rows = ArtifactVersion.objects.filter(commit__in=commits).exclude(effect="").order_by()
    found: dict[int, str] = {}
    for commit, effect in rows.values_list("commit", "effect").distinct():
        if commit not in found or EFFECTS.index(effect) < EFFECTS.index(found[commit]):
            found[commit] = effect
    return found


def _touched_by(commits: list[int]) -> dict[int, tuple[list[ArtifactVersion], int]]:
    """The first artifacts each commit touched, and how many there are: one of a hundred thousand is not read whole."""
    counts = ArtifactVersion.objects.filter(commit__in=commits).values("commit").annotate(count=Count("pk"))
    result: dict[int, tuple[list[ArtifactVersion], int]] = {commit: ([], 0) for commit in commits}
    many = []
    for commit, count in counts.order_by().values_list("commit", "count"):
        result[commit] = ([], count)
        if count > _SHOWN_OF_COMMIT:
            many.append(commit)
    few = [commit for commit, (_, count) in result.items() if 0 < count <= _SHOWN_OF_COMMIT]
    rows = list(ArtifactVersion.objects.filter(commit__in=few).order_by("pk"))
    for commit in many:
        rows += ArtifactVersion.objects.filter(commit=commit).order_by("pk")[:_SHOWN_OF_COMMIT]
    for row in rows:
        result[row.commit_id][0].append(row)
    return result
