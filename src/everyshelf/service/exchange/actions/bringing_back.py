"""From the side of a link to the shelf: commits that came from Git, worked out first and recorded in one act."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from everyshelf.service.base.context import get_trees
from everyshelf.service.exchange.actions.laying import Laid, fold_back, keep_states, state_of
from everyshelf.service.exchange.actions.sides import Line, newest_of_side, stand_for, state_here
from everyshelf.service.exchange.models import GitLink, SideCommit
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.lineage import lineage_of
from everyshelf.service.shelves.actions.recording import Progress, no_progress
from everyshelf.service.shelves.models import Commit, CommitParent, Shelf


@dataclass
class Back:
    """Commits of the side on their way to the shelf, worked out and not yet recorded."""

    link: GitLink
    line: Line
    alike: list[tuple[Commit | None, Commit | None]] = field(default_factory=list)
    again: list[tuple[int, Commit]] = field(default_factory=list)  # what else stands for the same as one of the line
    states: list[tuple[Commit, Laid]] = field(default_factory=list)
    clashes: list[int] = field(default_factory=list)

    def record(self, caller: Caller) -> tuple[list[Commit], list[Commit]]:
        """Record them, in the transaction that is open. Gives those that were not there before, and those that say what
        parts say where they do not go together with their files."""
        made = self.line.record(caller)
        stand_for(self.link, self.alike)
        stand_for(self.link, [(made[place], side) for place, side in self.again])
        keep_states(self.states)
        clashes = [made[place] for place in self.clashes]
        return [commit for place, commit in enumerate(made) if place not in set(self.clashes)], clashes


def plan_back(link: GitLink, tip: Commit, progress: Progress = no_progress) -> Back:
    """Work out which commits of the shelf those of the side become that lead to ``tip`` and were not brought yet."""
    assert link.side is not None
    line = Line(link, link.shelf, to_side=False)
    back, trees = Back(link, line), get_trees()
    brought = SideCommit.objects.filter(link=link, side__isnull=False).values("side")
    line_there = lineage_of(link.side).ancestors(tip.pk)
    lacking = Commit.objects.filter(shelf=link.side).exclude(pk__in=brought).order_by("generation", "pk")
    came = [side for side in lacking if side.pk in line_there]
    places: dict[int, Commit | int | None] = {}
    states: dict[int, Laid] = {}
    for done, side in enumerate(came):
        progress(done, len(came), side.summary)
        parents = list(CommitParent.objects.filter(commit=side).order_by("position").select_related("parent"))
        found = [places[r.parent_id] if r.parent_id in places else newest_of_side(link, r.parent_id) for r in parents]
        above = list(dict.fromkeys(one for one in found if one is not None))
        before = Laid(trees.empty, trees.empty)
        if parents:
            first = parents[0].parent
            before = states[first.pk] if first.pk in states else state_of(first)
        laid, clashes = fold_back(link, side.root, before)
        states[side.pk] = laid
        back.states.append((side, laid))
        root = state_here(link, laid.plain, line.root_of(above))
        if len(above) < 2 and root == line.root_of(above) and not clashes:
            places[side.pk] = one = above[0] if above else None
            if isinstance(one, int):
                back.again.append((one, side))
            else:
                back.alike.append((one, side))
            continue
        known = _known(link.shelf, side, above, root)
        if known is not None:
            places[side.pk] = known
            back.alike.append((known, side))
            continue
        if clashes:  # before the other: of several commits that stand for one of the side the last counts
            otherwise = state_here(link, trees.apply(laid.plain, dict(clashes)), line.root_of(above))
            back.clashes.append(line.add(side, above, otherwise))
        places[side.pk] = line.add(side, above, root)
    return back


def _known(shelf: Shelf, side: Commit, above: Sequence[Commit | int], root: str) -> Commit | None:
    """The commit that says exactly this, where the shelf has it: a link made a second time finds what it brought."""
    parents = [one.pk for one in above if isinstance(one, Commit)]
    if len(parents) < len(above):
        return None
    alike = Commit.objects.filter(
        shelf=shelf, root=root, summary=side.summary, author=side.author, time=side.time, description=side.description
    )
    for one in alike.order_by("pk"):
        if (
            list(CommitParent.objects.filter(commit=one).order_by("position").values_list("parent", flat=True))
            == parents
        ):
            return one
    return None
