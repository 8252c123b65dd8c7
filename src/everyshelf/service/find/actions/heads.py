"""Which versions are at the heads of branches, kept beside the branches and brought up to date by what changed."""

from __future__ import annotations

from dataclasses import dataclass, field

from django.db import transaction

from everyshelf.service.base.acts import aside
from everyshelf.service.base.context import get_trees
from everyshelf.service.find.models import HeadVersion, SeenHead
from everyshelf.service.shelves.actions.seen import versions_at
from everyshelf.service.shelves.models import Branch, Commit, Shelf

_AT_ONCE = 500


def stale_branches(shelf: Shelf) -> list[Branch]:
    """The branches that moved since their heads were looked at, the main one first."""
    branches = list(shelf.branches.select_related("head"))
    main = next((branch for branch in branches if branch.name == shelf.main_branch), None)
    main_head = main.head_id if main is not None else None
    seen = {row.branch_id: row for row in SeenHead.objects.filter(branch__shelf=shelf)}
    stale = [
        branch
        for branch in branches
        if (row := seen.get(branch.pk)) is None or row.commit_id != branch.head_id or row.main_id != main_head
    ]
    return sorted(stale, key=lambda branch: branch != main)


@dataclass
class Came:
    """What came to the heads of branches. ``were_read``: whether the words of all others at them are read already."""

    versions: list[int] = field(default_factory=list)
    were_read: bool = True
    heads: list[tuple[int, int | None, int | None]] = field(default_factory=list)  # branch, its head, that of main


def refresh_heads(shelf: Shelf) -> Came:
    """Bring the heads of all branches of a shelf up to date."""
    came = Came(were_read=not SeenHead.objects.filter(branch__shelf=shelf, read=False).exists())
    for branch in stale_branches(shelf):
        main = shelf.branches.select_related("head").filter(name=shelf.main_branch).first()
        if main is not None and branch.pk == main.pk:
            came.versions += _refresh_main(branch)
            main_head = branch.head
        else:
            main_head = main.head if main is not None else None
            came.versions += _refresh_other(branch, main_head)
        came.heads.append((branch.pk, branch.head_id, main_head.pk if main_head is not None else None))
    return came


def note_came_read(came: Came) -> None:
    """Note that the words at all heads are read, where they are still those that came."""
    with aside(), transaction.atomic():
        for branch, head, main in came.heads:
            SeenHead.objects.filter(branch=branch, commit=head, main=main).update(read=True)


def note_read(shelf: Shelf) -> None:
    """Note that all words at the heads of the branches are read, as far as they are known."""
    with aside(), transaction.atomic():
        known = SeenHead.objects.filter(branch__shelf=shelf, read=False)
        left = HeadVersion.objects.filter(branch__in=known.values("branch"), version__found=None).values("branch")
        known.exclude(branch__in=left).update(read=True)


def _refresh_main(branch: Branch) -> list[int]:
    row = SeenHead.objects.select_related("commit").filter(branch=branch).first()
    before = row.commit.root if row is not None and row.commit is not None else get_trees().empty
    after = branch.head.root if branch.head is not None else get_trees().empty
    changes = list(get_trees().changes(before, after))
    held = {c.path: c.after.id for c in changes if c.after is not None}
    return _write(branch, branch.head, branch.head, [change.path for change in changes], held)


def _refresh_other(branch: Branch, main: Commit | None) -> list[int]:
    before = main.root if main is not None else get_trees().empty
    after = branch.head.root if branch.head is not None else get_trees().empty
    held = {c.path: c.after.id for c in get_trees().changes(before, after) if c.after is not None}
    return _write(branch, branch.head, main, None, held)


def _write(
    branch: Branch, head: Commit | None, main: Commit | None, gone: list[str] | None, held: dict[str, str]
) -> list[int]:
    """Gives the versions that were written. ``gone``: paths of which nothing before holds any more; None for all."""
    versions = versions_at(branch.shelf, head, held)
    rows = [HeadVersion(branch=branch, path=path, version_id=version.pk) for path, version in versions.items()]
    with aside(), transaction.atomic():
        if not Branch.objects.filter(pk=branch.pk).exists():  # deleted meanwhile
            return []
        if gone is None:
            HeadVersion.objects.filter(branch=branch).delete()
        for start in range(0, len(gone or ()), _AT_ONCE):
            HeadVersion.objects.filter(branch=branch, path__in=(gone or [])[start : start + _AT_ONCE]).delete()
        HeadVersion.objects.bulk_create(rows, batch_size=_AT_ONCE, ignore_conflicts=True)
        SeenHead.objects.update_or_create(branch=branch, defaults={"commit": head, "main": main, "read": False})
    return [row.version_id for row in rows]
