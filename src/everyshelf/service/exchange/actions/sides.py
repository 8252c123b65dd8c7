"""Links of one folder or one artifact: the history of that part, kept as a shelf of its own that no person sees.

The side shelf is what the repository is a mapping of, with everything that the repository holds; so sending and
fetching are the same as for a whole shelf. Between the two shelves go commits:

- *out*: a commit that changes the part becomes one of the side, with the part in its place there and all the rest as it
  was; others stand for what their parent stands for.
- *back*: a commit of the side that changes the part becomes one of the shelf, with all the rest as it was.

``SideCommit`` says which commits stand for each other, and is written in the same transaction.
"""

from __future__ import annotations

import secrets
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from datetime import datetime

from django.utils import timezone

from everyshelf.core.errors import InvalidError
from everyshelf.core.history.commits import CommitData, decode_commit, encode_commit
from everyshelf.core.history.trees import Change, Entry
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.context import get_store, get_trees
from everyshelf.service.exchange.models import GitLink, SideCommit
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.lineage import lineage_of
from everyshelf.service.shelves.actions.recording import CommitMessage, Progress, no_progress
from everyshelf.service.shelves.actions.recording_lines import LineCommit, record_line
from everyshelf.service.shelves.models import (
    Artifact,
    ArtifactVersion,
    Branch,
    Commit,
    CommitParent,
    Shelf,
    ShelfContent,
    Tag,
)

_AT_ONCE = 500


def held_by(link: GitLink) -> Shelf:
    """The shelf that the repository is a mapping of: the side of a link that has one, else the shelf itself."""
    return link.side if link.side is not None else link.shelf


def make_side(link: GitLink) -> Shelf:
    """The side shelf of a new link; nobody is a member of it."""
    key = f"side-{secrets.token_hex(12)}"
    name = f"{link.folder} of {link.shelf.name}, for the Git link {link.name}"[:120]
    return Shelf.objects.create(key=key, name=name, main_branch=link.shelf.main_branch, created=timezone.now())


def remove_side(side: Shelf) -> None:
    """Forget a side shelf, in the order in which its records hold each other."""
    SideCommit.objects.filter(side__shelf=side).delete()
    Branch.objects.filter(shelf=side).delete()
    Tag.objects.filter(shelf=side).delete()
    ArtifactVersion.objects.filter(shelf=side).delete()
    Artifact.objects.filter(shelf=side).delete()
    CommitParent.objects.filter(commit__shelf=side).delete()
    side.delete()


# --- the part, and its place -------------------------------------------------------------


def _there(link: GitLink, root: str, before: str) -> str:
    """The state of the side: that before, with the part as the shelf has it."""
    trees = get_trees()
    part = trees.find(root, link.folder)
    if link.place:
        name = link.place.rpartition("/")[2]
        try:
            return trees.apply(before, {link.place: _called(part, name)})
        except InvalidError as error:
            raise InvalidError(
                f"{link.folder} cannot be at {link.place} in the repository: {error.message}",
                code="git.collides",
                hint="Rename what is in the way there, or make another link with another --place.",
            ) from error
    return part.id if part is not None and part.type != "artifact" else trees.empty


def _here(link: GitLink, side: str, before: str) -> str:
    """The state of the shelf: that before, with the part as the side has it."""
    trees = get_trees()
    name = link.folder.rpartition("/")[2]
    if link.place:
        part = _called(trees.find(side, link.place), name)
    else:
        part = trees.parted(name, side) if side != trees.empty else None
    old = trees.find(before, link.folder)
    if old is not None and old.type == "whole" and part is not None and part.type == "folder":
        part = trees.whole(name, part.id)
    return trees.apply(before, {link.folder: part})


def _called(part: Entry | None, name: str) -> Entry | None:
    return Entry(name, part.type, part.id, part.size) if part is not None else None


def _moved_path(path: str, old: str, new: str) -> str | None:
    """A path below ``old`` as one below ``new``; None for any other."""
    if not old:
        return f"{new}/{path}"
    if path == old:
        return new or None
    if not path.startswith(f"{old}/"):
        return None
    rest = path[len(old) + 1 :]
    return f"{new}/{rest}" if new else rest


# --- recording ---------------------------------------------------------------------------


@dataclass
class _Line:
    """Commits on their way to one of the two shelves. ``to_side``: which way they go."""

    link: GitLink
    shelf: Shelf
    to_side: bool
    commits: list[LineCommit] = field(default_factory=list)
    stand_for: list[Commit] = field(default_factory=list)  # what each of them stands for on the other shelf

    def add(self, of: Commit, parents: Sequence[Commit | int], root: str) -> int:
        """A commit that says what another one says; gives its place in the line."""
        data = decode_commit(get_store().read(of.uid))
        first = parents[0] if parents else None
        before = get_trees().empty
        if first is not None:
            before = self.commits[first].root if isinstance(first, int) else first.root
        ways = (self.link.folder, self.link.place) if self.to_side else (self.link.place, self.link.folder)
        changes = list(get_trees().changes(before, root))
        versions = ArtifactVersion.objects.filter(commit=of).values_list("path", "kind")
        kinds = {new: kind for path, kind in versions if (new := _moved_path(path, *ways)) is not None}
        moves = {}
        for move in data.moves:
            old, new = _moved_path(move.before, *ways), _moved_path(move.after, *ways)
            if old is not None and new is not None:
                moves[new] = old
        self.commits.append(
            LineCommit(
                parents=list(parents),
                root=root,
                message=CommitMessage(data.summary, data.description, data.labels, data.tasks, data.author),
                time=of.time,
                recorded=of.recorded,
                changes=changes,
                kinds={c.path: kinds.get(c.path) or "opaque" for c in changes if c.after is not None},
                moves={new: old for new, old in moves.items() if any(c.path == new for c in changes)},
                keep=lambda _uid: b"",
            )
        )
        self.stand_for.append(of)
        return len(self.commits) - 1

    def record(self, caller: Caller) -> list[Commit]:
        """Record them, and that they stand for the others, in one act."""
        if not self.commits:
            return []
        with one_act():
            made = record_line(caller, self.shelf, self.commits)
            pairs = list(zip(self.stand_for, made, strict=True))
            if not self.to_side:
                pairs = [(new, old) for old, new in pairs]
            stand_for(self.link, pairs)
            _hold(self.shelf, (change for one in self.commits for change in one.changes))
        self.commits, self.stand_for = [], []
        return made


def stand_for(link: GitLink, pairs: Iterable[tuple[Commit | None, Commit | None]]) -> None:
    """Record that commits of the shelf and of the side stand for each other; None: for nothing."""
    rows = [SideCommit(link=link, commit=commit, side=side) for commit, side in pairs]
    SideCommit.objects.bulk_create(rows, batch_size=_AT_ONCE)


def _hold(shelf: Shelf, changes: Iterable[Change]) -> None:
    """Note that the shelf holds what came."""
    trees = get_trees()
    sizes: dict[str, int] = {}
    for change in changes:
        entry = change.after
        if entry is not None and entry.type == "whole":
            sizes.update({e.id: e.size for _, e in trees.files(entry.id)})
        elif entry is not None:
            sizes[entry.id] = entry.size
    rows = [ShelfContent(shelf=shelf, content=content, size=size) for content, size in sizes.items()]
    ShelfContent.objects.bulk_create(rows, batch_size=_AT_ONCE, ignore_conflicts=True)


# --- out ---------------------------------------------------------------------------------


def bring_out(link: GitLink, progress: Progress = no_progress) -> None:
    """Let the side have what was committed on the shelf, and its branches stand where those of the shelf do."""
    if link.side is None:
        return
    caller, line = Caller(link.made_by), _Line(link, link.side, to_side=True)
    lacking = Commit.objects.filter(shelf=link.shelf).exclude(side_commits__link=link)
    keys = list(lacking.order_by("generation", "pk").values_list("pk", flat=True))
    for start in range(0, len(keys), _AT_ONCE):
        some = keys[start : start + _AT_ONCE]
        commits = Commit.objects.in_bulk(some)
        parents: dict[int, list[int]] = {key: [] for key in some}
        for row in CommitParent.objects.filter(commit__in=some).order_by("commit", "position"):
            parents[row.commit_id].append(row.parent_id)
        sides: dict[int, Commit | int | None] = dict(_sides_of(link, {p for above in parents.values() for p in above}))
        fresh: set[int] = set()  # commits that become one of the side
        for done, key in enumerate(some, start):
            progress(done, len(keys), commits[key].summary)
            above = list(dict.fromkeys(s for p in parents[key] if (s := sides.get(p)) is not None))
            if len(above) > 1:  # which of them is built on another is known once they are recorded
                _settle(line.record(caller), sides)
                recorded = [s for p in parents[key] if isinstance(s := sides.get(p), Commit)]
                above = list(_without_ancestors(link.side, list(dict.fromkeys(recorded))))
            before = get_trees().empty
            if above:
                before = line.commits[above[0]].root if isinstance(above[0], int) else above[0].root
            root = _there(link, commits[key].root, before)
            if len(above) < 2 and root == before:
                sides[key] = above[0] if above else None
            else:
                sides[key] = line.add(commits[key], above, root)
                fresh.add(key)
        alike = [key for key in some if key not in fresh]
        _settle(line.record(caller), sides)
        pairs = [(commits[key], side if isinstance(side := sides[key], Commit) else None) for key in alike]
        with one_act():
            stand_for(link, pairs)
    _move_branches(link)


def _settle(made: list[Commit], sides: dict[int, Commit | int | None]) -> None:
    """Put what was recorded in place of its place in the line."""
    for key, side in sides.items():
        if isinstance(side, int):
            sides[key] = made[side]


def _sides_of(link: GitLink, keys: Iterable[int]) -> dict[int, Commit]:
    """What commits of the shelf stand for on the side; of several the one that was found last."""
    rows = SideCommit.objects.filter(link=link, commit__in=list(keys), side__isnull=False).select_related("side")
    return {row.commit_id: row.side for row in rows.order_by("pk") if row.commit_id and row.side is not None}


def _without_ancestors(side: Shelf, commits: list[Commit]) -> list[Commit]:
    lineage = lineage_of(side)
    below = {one.pk: lineage.ancestors(one.pk) - {one.pk} for one in commits}
    return [one for one in commits if not any(one.pk in below[other.pk] for other in commits)]


def _move_branches(link: GitLink) -> None:
    assert link.side is not None
    heads = dict(link.shelf.branches.exclude(head=None).values_list("name", "head"))
    sides = _sides_of(link, heads.values())
    now, person = timezone.now(), link.made_by.username
    with one_act():
        wanted = {name: sides[head] for name, head in heads.items() if head in sides}
        Branch.objects.filter(shelf=link.side).exclude(name__in=wanted).delete()
        known = {branch.name: branch for branch in Branch.objects.filter(shelf=link.side)}
        for name, head in wanted.items():
            branch = known.get(name)
            if branch is None:
                Branch.objects.create(shelf=link.side, name=name, head=head, created=now, created_by=person)
            elif branch.head_id != head.pk:
                branch.head = head
                branch.save(update_fields=["head"])


# --- back --------------------------------------------------------------------------------


def bring_back(link: GitLink, caller: Caller, came: Iterable[Commit]) -> list[Commit]:
    """Make commits of the side, parents first, commits of the shelf; gives those that were not there before."""
    line = _Line(link, link.shelf, to_side=False)
    places: dict[int, Commit | int | None] = {}
    alike: list[tuple[Commit | None, Commit | None]] = []
    for side in came:
        rows = CommitParent.objects.filter(commit=side).order_by("position").values_list("parent", flat=True)
        found = [places[parent] if parent in places else _of_side(link, parent) for parent in rows]
        above = list(dict.fromkeys(one for one in found if one is not None))
        before = get_trees().empty
        if above:
            before = line.commits[above[0]].root if isinstance(above[0], int) else above[0].root
        root = _here(link, side.root, before)
        if len(above) < 2 and root == before:
            places[side.pk] = above[0] if above else None
            if not above or isinstance(above[0], Commit):
                alike.append((above[0] if above else None, side))  # type: ignore[arg-type]
            continue
        known = _known(link.shelf, side, above, root)
        if known is not None:
            places[side.pk] = known
            alike.append((known, side))
        else:
            places[side.pk] = line.add(side, above, root)
    later = [(pk, place) for pk, place in places.items() if isinstance(place, int)]
    first = {place: pk for pk, place in reversed(later)}
    with one_act():
        made = line.record(caller)
        stand_for(link, alike)
        stand_for(link, [(made[place], Commit.objects.get(pk=pk)) for pk, place in later if first[place] != pk])
    return made


def _known(shelf: Shelf, side: Commit, above: Sequence[Commit | int], root: str) -> Commit | None:
    """The commit that says exactly this, where the shelf has it: a link made a second time finds what it brought."""
    if any(isinstance(one, int) for one in above):
        return None
    data = decode_commit(get_store().read(side.uid))
    same = CommitData(
        root=root,
        parents=[one.uid for one in above if isinstance(one, Commit)],
        author=data.author,
        time=data.time,
        summary=data.summary,
        description=data.description,
        labels=data.labels,
        tasks=data.tasks,
    )
    return Commit.objects.filter(shelf=shelf, uid=encode_commit(same)[0]).first()


def _of_side(link: GitLink, side: int) -> Commit | None:
    """The newest commit of the shelf that stands for one of the side."""
    rows = SideCommit.objects.filter(link=link, side=side, commit__isnull=False).select_related("commit")
    row = rows.order_by("-commit").first()
    return row.commit if row is not None else None


def of_side(link: GitLink, side: Commit) -> Commit | None:
    """The newest commit of the shelf that stands for one of the side; itself where the link has no side."""
    return side if link.side is None else _of_side(link, side.pk)


def join(link: GitLink, branch: Branch, there: Commit, moment: datetime) -> None:
    """Let the side's branch have a commit that changed only what the link is not about: it came, and says nothing that
    the shelf does not have already."""
    assert link.side is not None and branch.head is not None
    mine = _sides_of(link, [branch.head.pk]).get(branch.head.pk)
    here = _of_side(link, there.pk)
    lineage = lineage_of(link.side)
    if mine is None or there.pk in lineage.ancestors(mine.pk):
        return
    if here is not None and here.pk not in lineage_of(link.shelf).ancestors(branch.head.pk):
        return  # what it changed is still to be merged
    if mine.pk in lineage.ancestors(there.pk) and _there(link, branch.head.root, there.root) == there.root:
        with one_act():
            stand_for(link, [(branch.head, there)])
        return
    root = _there(link, branch.head.root, there.root)
    summary = f"Merge {branch.name} of {link.name}"[:300]
    one = LineCommit(
        parents=[mine, there],
        root=root,
        message=CommitMessage(summary, author=link.made_by.username),
        time=moment,
        recorded=moment,
        changes=list(get_trees().changes(mine.root, root)),
        kinds={c.path: "opaque" for c in get_trees().changes(mine.root, root) if c.after is not None},
        moves={},
        keep=lambda _uid: b"",
    )
    with one_act():
        (made,) = record_line(Caller(link.made_by), link.side, [one])
        stand_for(link, [(branch.head, made)])
