"""From the shelf to the side of a link: commits, branches and tags, and parts of files brought level."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime

from django.utils import timezone
from msgspec import structs

from everyshelf.gitside.residue import encode_residue
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.context import get_trees
from everyshelf.service.exchange.actions.describing import residue_of
from everyshelf.service.exchange.actions.laying import Laid, keep_states, lay, state_of
from everyshelf.service.exchange.actions.sides import Line, newest_of_side, sides_of, stand_for, state_there
from everyshelf.service.exchange.models import GitLink, KeptTag, SideState
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.lineage import lineage_of
from everyshelf.service.shelves.actions.recording import CommitMessage, Progress, no_progress
from everyshelf.service.shelves.actions.recording_lines import LineCommit, record_line
from everyshelf.service.shelves.models import Branch, Commit, CommitParent, Shelf, Tag

_AT_ONCE = 500
_LEVEL = "Bring files and their parts level"
_LEVELLER = "everyshelf"
_TOLD = 3


def bring_out(link: GitLink, progress: Progress = no_progress) -> None:
    """Let the side have what was committed on the shelf, and its branches and tags stand where those of the shelf
    do."""
    if link.side is None:
        return
    caller, line = Caller(link.made_by), Line(link, link.side, to_side=True)
    lacking = Commit.objects.filter(shelf=link.shelf).exclude(side_commits__link=link)
    keys = list(lacking.order_by("generation", "pk").values_list("pk", flat=True))
    for start in range(0, len(keys), _AT_ONCE):
        some = keys[start : start + _AT_ONCE]
        commits = Commit.objects.in_bulk(some)
        parents: dict[int, list[int]] = {key: [] for key in some}
        for row in CommitParent.objects.filter(commit__in=some).order_by("commit", "position"):
            parents[row.commit_id].append(row.parent_id)
        sides: dict[int, Commit | int | None] = dict(sides_of(link, {p for above in parents.values() for p in above}))
        fresh: set[int] = set()  # commits that become one of the side
        for done, key in enumerate(some, start):
            progress(done, len(keys), commits[key].summary)
            above = list(dict.fromkeys(s for p in parents[key] if (s := sides.get(p)) is not None))
            if len(above) > 1:  # which of them is built on another is known once they are recorded
                _settle(line.record(caller), sides)
                recorded = [s for p in parents[key] if isinstance(s := sides.get(p), Commit)]
                above = list(_without_ancestors(link.side, list(dict.fromkeys(recorded))))
            if key <= link.as_is_until:
                sides[key] = _copy(line, commits[key], above)
                fresh.add(key)
                continue
            states = [line.state_of(side) for side in above]
            before = states[0] if states else Laid(get_trees().empty, get_trees().empty)
            plain = state_there(link, commits[key].root, before.plain)
            laid = lay(link, plain, before, _parts_of(link, states))
            if len(above) < 2 and plain == before.plain:
                sides[key] = above[0] if above else None
            else:
                sides[key] = line.add(commits[key], above, laid.root)
                line.laid.append(laid)
                fresh.add(key)
        alike = [key for key in some if key not in fresh]
        _settle(line.record(caller), sides)
        pairs = [(commits[key], side if isinstance(side := sides[key], Commit) else None) for key in alike]
        with one_act():
            stand_for(link, pairs)
    _move_branches(link)
    _bring_tags(link)


def _parts_of(link: GitLink, states: Sequence[Laid]) -> str:
    """How the parts of files are laid out in a commit: as in its parents, until all is brought level."""
    if not states or any(state.parts == link.parts or state.root != state.plain for state in states):
        return link.parts
    return states[0].parts


def _copy(line: Line, commit: Commit, above: Sequence[Commit | int]) -> int:
    """A commit of the time before the parts of files were laid out: it is the same in Git as it was."""

    def keep(_uid: str) -> bytes:
        residue = residue_of(commit)
        return encode_residue(structs.replace(residue, shelf_commit=residue.shelf_commit or commit.uid))

    line.laid.append(Laid(commit.root, commit.root))
    return line.add(commit, above, commit.root, keep)


def _settle(made: list[Commit], sides: dict[int, Commit | int | None]) -> None:
    """Put what was recorded in place of its place in the line."""
    for key, side in sides.items():
        if isinstance(side, int):
            sides[key] = made[side]


def _without_ancestors(side: Shelf, commits: list[Commit]) -> list[Commit]:
    lineage = lineage_of(side)
    below = {one.pk: lineage.ancestors(one.pk) - {one.pk} for one in commits}
    return [one for one in commits if not any(one.pk in below[other.pk] for other in commits)]


def _move_branches(link: GitLink) -> None:
    assert link.side is not None
    heads = dict(link.shelf.branches.exclude(head=None).values_list("name", "head"))
    sides = sides_of(link, heads.values())
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


def _bring_tags(link: GitLink) -> None:
    """Let the side have the tags of the shelf; those of a part name states of the whole shelf and stay."""
    if link.side is None or not link.tags:
        return
    known = set(Tag.objects.filter(shelf=link.side).values_list("name", flat=True))
    lacking = [tag for tag in Tag.objects.filter(shelf=link.shelf).order_by("pk") if tag.name not in known]
    sides = sides_of(link, [tag.commit_id for tag in lacking])
    kept = dict(KeptTag.objects.filter(tag__in=lacking).values_list("tag", "content"))
    with one_act():
        for tag in lacking:
            if tag.commit_id not in sides:
                continue
            made = Tag.objects.create(
                shelf=link.side,
                name=tag.name,
                commit=sides[tag.commit_id],
                note=tag.note,
                selection=tag.selection,
                created=tag.created,
                created_by=tag.created_by,
            )
            if tag.pk in kept and tag.commit_id <= link.as_is_until:
                KeptTag.objects.create(tag=made, content=kept[tag.pk])


def bring_level(link: GitLink, branches: Iterable[str]) -> None:
    """Let the parts of files say what the files say, in a commit of its own on the side where that is needed. It is
    the same wherever it is made: its author is the service, and its time that of the commit before."""
    if link.side is None:
        return
    heads = dict(link.shelf.branches.filter(name__in=list(branches)).exclude(head=None).values_list("name", "head"))
    sides = sides_of(link, heads.values())
    line = Line(link, link.side, to_side=True)
    for head in sorted(set(heads.values()) & sides.keys()):
        side = sides[head]
        before = state_of(side)
        if before.is_level and before.parts == link.parts:
            continue
        laid = lay(link, before.plain, before, link.parts)
        if laid.root == before.root:
            with one_act():
                SideState.objects.filter(side=side).delete()
                keep_states([(side, laid)])
            continue
        changes = list(get_trees().changes(before.root, laid.root))
        line.commits.append(
            LineCommit(
                parents=[side],
                root=laid.root,
                message=CommitMessage(_LEVEL, author=_LEVELLER),
                time=side.recorded,
                recorded=side.recorded,
                changes=changes,
                kinds={change.path: "opaque" for change in changes if change.after is not None},
                moves={},
                keep=lambda _uid: b"",
            )
        )
        line.stand_for.append(Commit.objects.get(pk=head))
        line.laid.append(laid)
    if line.record(Caller(link.made_by)):
        _move_branches(link)


def not_alike(link: GitLink, branch: str) -> str:
    """Which files of a branch cannot be brought to say what their parts say, in words; empty for none."""
    head = link.shelf.branches.filter(name=branch).values_list("head", flat=True).first()
    side = sides_of(link, [head]).get(head) if head is not None else None
    return "; ".join([why for why in state_of(side).apart.values() if why][:_TOLD]) if side is not None else ""


def join(link: GitLink, branch: Branch, there: Commit, moment: datetime) -> None:
    """Let the side's branch have a commit that changed only what the link is not about: it came, and says nothing that
    the shelf does not have already."""
    assert link.side is not None and branch.head is not None
    mine = sides_of(link, [branch.head.pk]).get(branch.head.pk)
    here = newest_of_side(link, there.pk)
    lineage = lineage_of(link.side)
    if mine is None or there.pk in lineage.ancestors(mine.pk):
        return
    if here is not None and here.pk not in lineage_of(link.shelf).ancestors(branch.head.pk):
        return  # what it changed is still to be merged
    state = state_of(there)
    plain = state_there(link, branch.head.root, state.plain)
    if mine.pk in lineage.ancestors(there.pk) and plain == state.plain:
        with one_act():
            stand_for(link, [(branch.head, there)])
        return
    laid = lay(link, plain, state, _parts_of(link, [state, state_of(mine)]))
    changes = list(get_trees().changes(mine.root, laid.root))
    one = LineCommit(
        parents=[mine, there],
        root=laid.root,
        message=CommitMessage(f"Merge {branch.name} of {link.name}"[:300], author=link.made_by.username),
        time=moment,
        recorded=moment,
        changes=changes,
        kinds={change.path: "opaque" for change in changes if change.after is not None},
        moves={},
        keep=lambda _uid: b"",
    )
    with one_act():
        (made,) = record_line(Caller(link.made_by), link.side, [one])
        keep_states([(made, laid)])
        stand_for(link, [(branch.head, made)])
