"""A draft as a state of the shelf: what the shelf would be with what is pending, now or at a save point."""

from __future__ import annotations

from typing import Any

from everyshelf.core.errors import InvalidError, MissingError
from everyshelf.core.history.trees import Entry
from everyshelf.service.base.context import get_trees
from everyshelf.service.drafts.models import Draft, SavePoint
from everyshelf.service.shelves.actions.recording import marked
from everyshelf.service.shelves.actions.refs import Resolved, get_branch
from everyshelf.service.shelves.models import Shelf


def draft_state(person: Any, shelf: Shelf, ref: str, named: str) -> Resolved:
    """The state behind ``BRANCH`` or ``BRANCH@POINT``; without anything pending, the branch itself."""
    name, at, number = named.partition("@")
    branch = get_branch(shelf, name)
    draft = Draft.objects.filter(person=person, shelf=shelf, branch=name).select_related("base").first()
    points = _points(draft, number if at else "", named) if draft is not None else []
    if draft is None or not points:
        head = branch.head
        return Resolved(ref, "draft", head, head.root if head else get_trees().empty)
    base = draft.base or branch.head
    root = base.root if base else get_trees().empty
    changes: dict[str, Entry | None] = {}
    for point in points:
        name = point.path.rpartition("/")[2]
        changes[point.path] = Entry(name, "artifact", point.content, point.size) if point.content else None
        if point.moved_from:
            changes.setdefault(point.moved_from, None)
    return Resolved(ref, "draft", base, marked(root, get_trees().apply(root, changes)))


def edited_paths(person: Any, shelf: Shelf, branch: str) -> frozenset[str]:
    """What a person has changed on a branch and not committed yet, under its old and its new name."""
    rows = SavePoint.objects.filter(
        draft__person=person, draft__shelf=shelf, draft__branch=branch, newest=True, commit=None
    ).exclude(state="discarded")
    return frozenset(path for row in rows.values_list("path", "moved_from") for path in row if path)


def _points(draft: Draft, number: str, named: str) -> list[SavePoint]:
    """The newest save point of each path that is pending now, or was at save point ``number``."""
    rows = SavePoint.objects.filter(draft=draft)
    if not number:
        return list(rows.filter(newest=True, commit=None).exclude(state="discarded"))
    if not number.isascii() or not number.isdigit() or len(number) > 9:
        raise InvalidError(f"{named!r} names no save point", code="ref.invalid", hint="Write draft:BRANCH@7.")
    if not rows.filter(number=int(number)).exists():
        raise MissingError(f"your draft has no save point {number}", code="draft.point")
    newest: dict[str, SavePoint] = {}
    for point in rows.filter(number__lte=int(number)).order_by("number"):
        newest[point.path] = point
    return [p for p in newest.values() if p.state != "discarded"]
