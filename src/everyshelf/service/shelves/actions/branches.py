"""Branches and tags."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from django.db import IntegrityError
from django.utils import timezone

from everyshelf.core.errors import ConflictError, InvalidError, RefusedError
from everyshelf.core.history.naming import suggested_name
from everyshelf.core.history.paths import check_path
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.context import get_trees
from everyshelf.service.base.paging import as_page, by_name, named
from everyshelf.service.log.actions import note as log_note
from everyshelf.service.rights import Caller, require
from everyshelf.service.shelves.actions.lineage import lineage_of
from everyshelf.service.shelves.actions.refs import check_branch_name, get_branch, resolve
from everyshelf.service.shelves.models import Branch, Shelf, Tag


def make_branch(caller: Caller, shelf: Shelf, name: str, start: str, note: str) -> Branch:
    """A branch from any ref: one record, however large the shelf is. Without a name it gets one that tells whose it is
    and, in the words of ``note``, what for."""
    require(caller, shelf, "branch")
    name = name or suggest_branch(caller, shelf, note)
    check_branch_name(name)
    head = resolve(shelf, start).commit
    try:
        with one_act():
            log_note(caller, "branch.made", name, shelf, start=start, head=head.uid if head else None)
            return Branch.objects.create(
                shelf=shelf, name=name, head=head, note=note, created=timezone.now(), created_by=caller.person.username
            )
    except IntegrityError as error:
        raise ConflictError(
            f"there is a branch {name!r} already", code="branch.taken", hint="Choose another name."
        ) from error


def suggest_branch(caller: Caller, shelf: Shelf, note: str) -> str:
    """A name that tells whose a branch is and what for."""
    taken = set(shelf.branches.values_list("name", flat=True))
    return suggested_name(note, f"{timezone.now():%d-%b}".lower(), taken, f"{caller.person.username}/")


def guard_branch(caller: Caller, shelf: Shelf, name: str, guarded: bool) -> Branch:
    """Say whether only keepers may commit to it."""
    require(caller, shelf, "guard branches")
    branch = get_branch(shelf, name)
    branch.guarded = guarded
    with one_act():
        branch.save(update_fields=["guarded"])
        log_note(caller, "branch.guarded" if guarded else "branch.open", name, shelf)
    return branch


def delete_branch(caller: Caller, shelf: Shelf, name: str) -> None:
    """Drop a branch; its commits stay."""
    branch = get_branch(shelf, name)
    check_delete(caller, shelf, branch)
    with one_act():
        log_note(caller, "branch.deleted", name, shelf, head=branch.head.uid if branch.head else None)
        branch.delete()


def check_delete(caller: Caller, shelf: Shelf, branch: Branch) -> None:
    """Return if the caller may delete the branch."""
    require(caller, shelf, "branch")
    if branch.name == shelf.main_branch:
        raise InvalidError("the main branch cannot be deleted", code="branch.main")
    if branch.guarded:
        raise RefusedError(f"{branch.name} is guarded", code="branch.guarded", hint="An owner can lift that first.")


def list_branches(shelf: Shelf, words: str = "", *, limit: int, cursor: str = "") -> dict[str, Any]:
    """A page of the branches with ``words`` in their names: the main branch, then the others by name."""
    found = named(shelf.branches.select_related("head"), words)
    page = by_name(found, shelf.main_branch, limit=limit, cursor=cursor)
    return as_page(page, _described(shelf, page.records))


def describe_branch(branch: Branch) -> dict[str, Any]:
    """One branch as lists show it."""
    return _described(branch.shelf, [branch])[0]


def _described(shelf: Shelf, branches: list[Branch]) -> list[dict[str, Any]]:
    """Branches with how far each is ahead of and behind the main branch."""
    lineage = lineage_of(shelf)
    main = get_branch(shelf, shelf.main_branch)
    result = []
    for branch in branches:
        ahead, behind = lineage.divergence(branch.head_id, main.head_id)
        head = branch.head
        result.append(
            {
                "name": branch.name,
                "guarded": branch.guarded,
                "note": branch.note,
                "main": branch.name == main.name,
                "created": branch.created,
                "created_by": branch.created_by,
                "head": head.uid if head else None,
                "summary": head.summary if head else "",
                "author": head.author if head else "",
                "recorded": head.recorded if head else None,
                "ahead": ahead,
                "behind": behind,
            }
        )
    return result


def make_tag(
    caller: Caller,
    shelf: Shelf,
    name: str,
    ref: str,
    note: str,
    selection: list[str] | None,
    created: datetime | None = None,
    created_by: str | None = None,
) -> Tag:
    """A name that never moves, for a commit and perhaps a selection of its artifacts."""
    require(caller, shelf, "tag")
    check_branch_name(name)
    if (created is not None or created_by is not None) and not caller.may_import:
        raise RefusedError("only someone with the right to import sets time or person", code="rights.import")
    resolved = resolve(shelf, ref)
    if resolved.commit is None:
        raise InvalidError(f"{ref} has no commit to tag", code="tag.empty", hint="Commit something first.")
    for path in selection or []:
        if get_trees().find(resolved.root, check_path(path)) is None:
            raise InvalidError(f"{path} is not in {ref}", code="tag.selection", hint="See everyshelf browse.")
    try:
        with one_act():
            log_note(caller, "tag.made", name, shelf, commit=resolved.commit.uid)
            return Tag.objects.create(
                shelf=shelf,
                name=name,
                commit=resolved.commit,
                note=note,
                selection=selection or None,
                created=created or timezone.now(),
                created_by=created_by or caller.person.username,
            )
    except IntegrityError as error:
        raise ConflictError(
            f"the tag {name!r} exists, and tags never move", code="tag.taken", hint="Choose another name."
        ) from error
