"""Saving into a draft, its trail, and committing from it. A draft is its person's alone."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from typing import Any

from django.db.models import QuerySet
from django.utils import timezone

from everyshelf.core.errors import ConflictError, InvalidError, MissingError
from everyshelf.core.history.paths import check_path
from everyshelf.core.merge.model import Side
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.context import get_trees
from everyshelf.service.drafts.models import Draft, SavePoint
from everyshelf.service.drafts.rules import kept_until
from everyshelf.service.rights import Caller, require
from everyshelf.service.shelves.actions.committing import ChangeRequest, prepare_changes
from everyshelf.service.shelves.actions.contents import get_size
from everyshelf.service.shelves.actions.recording import CommitMessage
from everyshelf.service.shelves.actions.refs import get_branch
from everyshelf.service.shelves.models import ArtifactVersion, Branch, Commit, Merge, Shelf, ShelfContent

MOST_POINTS = 500


@dataclass(frozen=True)
class Saving:
    """One edit to keep: new content at a path (perhaps moved from another), or None where it is gone.

    ``onto`` is the number of the save point it was made on, 0 for what was not in the draft; None: do not ask.
    ``credit``: who made it where, if that was someone else.
    """

    path: str
    content: str | None
    moved_from: str = ""
    onto: int | None = None
    credit: str = ""


def save(caller: Caller, shelf: Shelf, branch_name: str, base: str | None, wanted: list[Saving]) -> dict[str, Any]:
    """Keep edits, all or none; raises ``ConflictError`` (draft.moved) if one was made on another save point.

    ``base`` is the commit the edits build on; a draft with something pending keeps building on its own.
    """
    require(caller, shelf, "commit")
    branch = get_branch(shelf, branch_name)
    found = _commit_of(shelf, base) if base else None
    with one_act():
        draft, _ = Draft.objects.get_or_create(person=caller.person, shelf=shelf, branch=branch.name)
        pending = {p.path: p for p in pending_of(draft)}
        if not pending:
            draft.base = found if found is not None else branch.head
        root = draft.base.root if draft.base else get_trees().empty
        for one in wanted:
            _save_one(shelf, draft, root, pending, one)
        draft.save()
    return draft_json(draft)


def _commit_of(shelf: Shelf, uid: str) -> Commit:
    found = Commit.objects.filter(shelf=shelf, uid=uid).first()
    if found is None:
        raise InvalidError(f"there is no commit {uid[:12]} to build on", code="commit.base")
    return found


def _save_one(shelf: Shelf, draft: Draft, root: str, pending: dict[str, SavePoint], one: Saving) -> None:
    check_path(one.path)
    last = pending.get(one.path)
    number = last.number if last is not None else 0
    if one.onto is not None and one.onto != number:
        raise ConflictError(
            f"{one.path} was saved elsewhere meanwhile: save point {number}, and you build on {one.onto or 'none'}",
            code="draft.moved",
            hint="Look at what was saved there, then save again onto it.",
            point=number,
        )
    content = one.content or ""
    size = get_size(shelf, content) if content else 0
    if last is not None and last.content == content and last.moved_from == one.moved_from:
        return
    held = get_trees().find(root, one.path)
    if held is not None and held.id == content and not one.moved_from:
        if last is not None:
            _add(draft, one.path, "discarded", content, size)
        return
    if not content and held is None:
        if last is None:
            raise InvalidError(f"{one.path} is not there, so it cannot go", code="draft.missing")
        _add(draft, one.path, "discarded", "", 0)
        return
    state = "gone" if not content else "moved" if one.moved_from else "edited" if held is not None else "new"
    made_on = last.made_on if last is not None else ""
    _add(draft, one.path, state, content, size, one.moved_from, made_on, credit=one.credit)


def _add(
    draft: Draft,
    path: str,
    state: str,
    content: str,
    size: int,
    moved_from: str = "",
    made_on: str = "",
    *,
    credit: str = "",
) -> SavePoint:
    draft.points_made += 1
    SavePoint.objects.filter(draft=draft, path=path, newest=True).update(newest=False)
    return SavePoint.objects.create(
        draft=draft,
        number=draft.points_made,
        path=path,
        state=state,
        content=content,
        size=size,
        moved_from=moved_from,
        made_on=made_on,
        credit=credit[:300],
        made=timezone.now(),
    )


def pending_of(draft: Draft) -> QuerySet[SavePoint]:
    """The newest save point of each path that is neither committed nor discarded."""
    rows = SavePoint.objects.filter(draft=draft, newest=True, commit=None)
    return rows.exclude(state="discarded").order_by("path")


# --- looking ------------------------------------------------------------------------


def list_drafts(caller: Caller, shelf: Shelf) -> list[dict[str, Any]]:
    """The caller's drafts that have something pending."""
    rows = Draft.objects.filter(person=caller.person, shelf=shelf).select_related("base").order_by("branch")
    return [told for told in map(draft_json, rows) if told["entries"]]


def get_draft(caller: Caller, shelf: Shelf, branch: str) -> Draft:
    """The caller's draft of a branch; raises ``MissingError``."""
    found = Draft.objects.filter(person=caller.person, shelf=shelf, branch=branch).select_related("base").first()
    if found is None:
        raise MissingError(f"you have no draft of {branch}", code="draft.none", hint="Save something into it first.")
    return found


def draft_json(draft: Draft) -> dict[str, Any]:
    """A draft with what is pending in it."""
    entries = [point_json(p) for p in pending_of(draft)]
    branch = draft.shelf.branches.filter(name=draft.branch).select_related("head").first()
    head = branch.head if branch is not None else None
    saved = max((e["made"] for e in entries), default=None)
    return {
        "branch": draft.branch,
        "base": draft.base.uid if draft.base else None,
        "head": head.uid if head else None,
        "behind": bool(entries) and (head.pk if head else None) != draft.base_id,
        "saved": saved,
        "until": kept_until(draft, saved),
        "entries": entries,
    }


def point_json(point: SavePoint) -> dict[str, Any]:
    """A save point."""
    return {
        "point": point.number,
        "path": point.path,
        "moved_from": point.moved_from,
        "state": point.state,
        "content": point.content or None,
        "size": point.size,
        "made": point.made,
        "commit": point.commit.uid if point.commit else None,
    }


def list_points(draft: Draft, path: str, before: int | None) -> list[dict[str, Any]]:
    """The trail, newest first: of one path, or of all."""
    rows = SavePoint.objects.filter(draft=draft).select_related("commit").order_by("-number")
    if path:
        rows = rows.filter(path=path)
    if before is not None:
        rows = rows.filter(number__lt=before)
    points = list(rows[:MOST_POINTS])
    found = _commits_with(draft.shelf, points)
    return [{**point_json(p), "commit": found.get((p.path, p.content)) or point_json(p)["commit"]} for p in points]


def _commits_with(shelf: Shelf, points: list[SavePoint]) -> dict[tuple[str, str], str]:
    """The first commit in which each artifact had the content that was saved: in which commit it is, is answered by
    content, whatever hand brought it there."""
    contents = {p.content for p in points if p.content}
    versions = ArtifactVersion.objects.filter(shelf=shelf, path__in={p.path for p in points}, content__in=contents)
    rows = versions.order_by("-commit__recorded", "-pk").values_list("path", "content", "commit__uid")
    return {(path, content): uid for path, content, uid in rows}


# --- undoing --------------------------------------------------------------------------


def discard(caller: Caller, draft: Draft, paths: list[str] | None) -> dict[str, Any]:
    """Give pending entries up, all without ``paths``; their save points stay and can be brought back."""
    require(caller, draft.shelf, "commit")
    with one_act():
        discard_pending(draft, paths)
    return draft_json(draft)


def discard_pending(draft: Draft, paths: list[str] | None = None) -> None:
    """Give pending entries up, in the act that is open."""
    draft.refresh_from_db(fields=["points_made"])  # another window may have saved since it was read
    pending = {p.path: p for p in pending_of(draft)}
    for path in paths if paths is not None else list(pending):
        if path not in pending:
            raise InvalidError(f"{path} is not pending in your draft", code="draft.missing")
        _add(draft, path, "discarded", pending[path].content, pending[path].size)
    draft.save(update_fields=["points_made"])


def restore_point(caller: Caller, draft: Draft, number: int) -> dict[str, Any]:
    """Save what a save point holds anew."""
    point = SavePoint.objects.filter(draft=draft, number=number).first()
    if point is None:
        raise MissingError(f"your draft has no save point {number}", code="draft.point")
    base = draft.base.uid if draft.base else None
    again = Saving(point.path, point.content or None, point.moved_from)
    return save(caller, draft.shelf, draft.branch, base, [again])


# --- committing -----------------------------------------------------------------------


def commit_draft(
    caller: Caller,
    draft: Draft,
    paths: list[str] | None,
    message: CommitMessage,
    *,
    merge: bool = False,
    prefer: Side | None = None,
) -> Commit:
    """Commit pending entries, all or a selection; what is left stays. Raises as ``prepare_changes``."""
    pending = {p.path: p for p in pending_of(draft)}
    chosen = list(pending) if paths is None else paths
    missing = next((p for p in chosen if p not in pending), None)
    if missing is not None:
        raise InvalidError(f"{missing} is not pending in your draft", code="draft.missing")
    wanted = [ChangeRequest(p, pending[p].content or None, pending[p].moved_from) for p in chosen]
    credits = [f"- {path}: {pending[path].credit}" for path in sorted(chosen) if pending[path].credit]
    if credits:
        told = "\n".join(["Captured:", *credits])
        message = replace(message, description=f"{message.description}\n\n{told}".strip())
    base = draft.base.uid if draft.base else None
    try:
        prepared = prepare_changes(
            caller,
            draft.shelf,
            draft.branch,
            base,
            wanted,
            message,
            merge=merge,
            prefer=prefer,
            older={p: pending[p].made_on for p in chosen if pending[p].made_on},
        )
    except ConflictError as error:
        if error.code == "merge.conflict":
            waiting = Merge.objects.get(shelf=draft.shelf, uid=error.facts["merge"])
            waiting.points = [pending[p].pk for p in chosen]
            waiting.save(update_fields=["points"])
        raise
    with one_act():
        made = prepared.record()
        _take_up([pending[p].pk for p in chosen], made)
    return made


def follow_merge(merge: Merge, commit: Commit) -> None:
    """What a finished merge means for the draft it was made of."""
    if merge.points:
        _take_up(merge.points, commit)


def _take_up(points: list[int], commit: Commit) -> None:
    """Note which commit took save points up; what has been saved since stays pending, and the draft goes on from the
    commit: nobody shall have to settle a conflict with their own work."""
    rows = SavePoint.objects.filter(pk__in=points).select_related("draft__base", "draft__shelf")
    for draft, paths in _by_draft(rows).items():
        # Only these: an earlier state of the same artifact is in no commit because a later one is.
        taken = SavePoint.objects.filter(pk__in=[p.pk for p in paths], commit=None)
        taken.exclude(state="discarded").update(commit=commit)
        left = list(pending_of(draft))
        if not left:
            draft.base = None
        else:
            _keep_older_bases(draft, left, commit)
            draft.base = commit
        draft.save(update_fields=["base"])


def take_up_equal(caller: Caller, branch: Branch, commit: Commit) -> None:
    """A commit, wherever it was made, takes up what its maker has pending with the same content."""
    draft = Draft.objects.filter(person=caller.person, shelf_id=branch.shelf_id, branch=branch.name).first()
    if draft is None:
        return
    trees = get_trees()
    equal = []
    for point in pending_of(draft):
        entry = trees.find(commit.root, point.path)
        is_there = (entry.id if entry is not None else "") == point.content
        if is_there and not (point.moved_from and trees.find(commit.root, point.moved_from) is not None):
            equal.append(point.pk)
    if equal:
        _take_up(equal, commit)


def went_on_from(person: Any, branch: Branch, path: str, content: str) -> bool:
    """Whether someone saved a content into their draft, saved another one after it, and committed that."""
    points = SavePoint.objects.filter(
        draft__person=person, draft__shelf_id=branch.shelf_id, draft__branch=branch.name, path=path
    )
    first = points.filter(content=content).order_by("number").values_list("number", flat=True).first()
    return first is not None and points.filter(number__gt=first).exclude(commit=None).exists()


def _keep_older_bases(draft: Draft, left: list[SavePoint], commit: Commit) -> None:
    """An entry whose artifact others changed in between is still to be merged with that change."""
    trees = get_trees()
    before = draft.base.root if draft.base is not None else trees.empty
    for point in left:
        if not point.made_on and trees.find(before, point.path) != trees.find(commit.root, point.path):
            point.made_on = before
            point.save(update_fields=["made_on"])


def _by_draft(points: Iterable[SavePoint]) -> dict[Draft, list[SavePoint]]:
    found: dict[Draft, list[SavePoint]] = {}
    for point in points:
        found.setdefault(point.draft, []).append(point)
    return found


# --- verifying ----------------------------------------------------------------------------


def check_points(shelf: Shelf) -> Iterator[str]:
    """A line for each save point whose content the shelf does not have. It says nothing of whose draft it is in."""
    held = set(ShelfContent.objects.filter(shelf=shelf).values_list("content", flat=True))
    for point in SavePoint.objects.filter(draft__shelf=shelf).exclude(content="").iterator(2000):
        if point.content not in held:
            yield f"save point {point.number} of {point.path}: its content {point.content[:12]} is not recorded"
