"""Where two lines parted: what a branch or draft changed is told from there, not from where the other one is now."""

from __future__ import annotations

from dataclasses import dataclass, replace

from everyshelf.core.answers.states import Parted
from everyshelf.core.compare.sentences import count_noun
from everyshelf.service.shelves.actions.lineage import lineage_of
from everyshelf.service.shelves.actions.refs import Resolved
from everyshelf.service.shelves.models import Commit, Shelf

_LINES = ("branch", "draft")


@dataclass(frozen=True)
class Parting:
    """The newest commit both lines have, and how many commits the one compared from has since."""

    ref: str
    head: Commit
    commit: Commit
    newer: int

    def answer(self) -> Parted:
        """What interfaces get; ``head``: where the other line is now, to compare with as it is."""
        return Parted(ref=self.ref, head=self.head.uid, commit=self.commit.uid, newer=self.newer)

    def sentence(self) -> str:
        """What is left out, in words."""
        return f"{self.ref} has {count_noun(self.newer, 'newer commit')}, left out here."


def parted(shelf: Shelf, before: Resolved, after: Resolved) -> Parting | None:
    """Where the two parted, if ``before`` has commits since; None if ``after`` has them all, or they share nothing."""
    one, other = before.commit, after.commit
    if one is None or other is None or one.pk == other.pk:
        return None
    lineage = lineage_of(shelf)
    base = lineage.base(one.pk, other.pk)
    if base is None or base == one.pk:
        return None
    newer = len(lineage.ancestors(one.pk) - lineage.ancestors(other.pk))
    return Parting(before.ref, one, Commit.objects.get(pk=base), newer)


def since_parting(shelf: Shelf, before: Resolved, after: Resolved) -> tuple[Resolved, Parting | None]:
    """The state to compare ``after`` with: where a branch or draft parted from the branch ``before``, else ``before``.

    A commit, a tag or a moment is that state and no other.
    """
    if before.kind != "branch" or after.kind not in _LINES:
        return before, None
    found = parted(shelf, before, after)
    if found is None:
        return before, None
    return replace(before, commit=found.commit, root=found.commit.root), found
