"""An artifact of a merge that is put together elsewhere, by a program or by hand.

It starts as all that is merged so far, and it has to hold what both sides changed outside of what is to be settled, as
every merge does: what is lost there would be lost without anyone having decided it.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from everyshelf.core.answers.findings import FindingAnswer
from everyshelf.core.answers.merges import ArtifactMerge, ConflictAnswer, MergeAnswer
from everyshelf.core.errors import InvalidError, LimitError
from everyshelf.core.history.merging import Trio
from everyshelf.core.history.trees import Entry
from everyshelf.core.merge.model import Side
from everyshelf.service.base.context import get_trees
from everyshelf.service.shelves.actions.comparing import compare_pair
from everyshelf.service.shelves.actions.contents import get_size
from everyshelf.service.shelves.actions.merge_pace import Pace
from everyshelf.service.shelves.actions.merge_plan import Combining, Decided, MergeRequest
from everyshelf.service.shelves.actions.pairs import Pairing
from everyshelf.service.shelves.actions.recording import rules_at
from everyshelf.service.shelves.models import Commit, Shelf

_MOST_NAMED = 3
_NO_KIND = ("text", "bytes")


class ByHand:
    """One artifact of a merge on top of the commit ``head``."""

    def __init__(
        self, shelf: Shelf, request: MergeRequest, head: Commit | None, decided: Decided, artifact: ArtifactMerge
    ) -> None:
        self._shelf, self._request, self._artifact = shelf, request, artifact
        self._target_root = head.root if head is not None else get_trees().empty
        known = decided.get(artifact.path, {})
        self._decided = {name: said for name, said in known.items() if name != "/"}

    @property
    def of(self) -> list[str | None]:
        """The three versions it is put together from."""
        return [self._artifact.base, self._artifact.target, self._artifact.source]

    def so_far(self) -> Entry | None:
        """The artifact with all that could be merged and was settled; where something is to be settled still, as the
        target has it. None if it is gone there."""
        trio = self._trio
        if trio.base is None or trio.target is None or trio.source is None:
            return trio.target
        return self._merged(trio, "target", self._decided)[1] or trio.target

    def require_held(self, content: str) -> None:
        """Raise ``InvalidError`` if a content is what was merged so far (settle.unchanged), can no longer be read
        (settle.unreadable), or lacks what a side changed elsewhere (settle.lost)."""
        given, start, trio = self._entry(content), self.so_far(), self._trio
        assert given is not None
        if start is None or trio.base is None or trio.target is None or trio.source is None:
            return  # one side removed it, or both added it: there is no elsewhere
        path = self._artifact.path
        if self._artifact.open and given.id == start.id:
            raise InvalidError(
                f"{path} is as it was merged so far; nothing was settled",
                code="settle.unchanged",
                hint=f"To keep the target's side on purpose: everyshelf settle {path} --take target",
            )
        before, _ = self._merged(trio, "target", self._decided)
        # What the one has and the other lacks comes in by merging both, as on any two branches.
        after, whole = self._merged(replace(trio, target=start, source=given), "source", {})
        if before.read_as not in _NO_KIND and after.read_as in _NO_KIND:
            raise InvalidError(
                f"{path} could no longer be read as a {before.read_as}",
                code="settle.unreadable",
                hint="Correct it; nothing was settled.",
            )
        lost = self._lost(given, whole) if whole is not None else []
        if lost:
            more = f" and {len(lost) - _MOST_NAMED} more" if len(lost) > _MOST_NAMED else ""
            raise InvalidError(
                f"{path} lacks what was changed elsewhere: {', '.join(lost[:_MOST_NAMED])}{more}",
                code="settle.lost",
                hint="Put it back, or take it out in a commit after the merge; nothing was settled.",
            )

    def _lost(self, given: Entry, whole: Entry) -> list[str]:
        """The parts that would have to change for ``given`` to hold all, but for those that are to be settled."""
        if given.id == whole.id:
            return []
        path, conflicts = self._artifact.path, self._artifact.conflicts
        answer = compare_pair(Pairing(path, path, given, whole), rules_at(self._target_root), "request")
        if answer is None:
            raise self._too_long()
        return [
            f.label or f.part
            for f in answer.findings
            if f.effect != "cosmetic" and not any(_is_about(f, conflict) for conflict in conflicts)
        ]

    @property
    def _name(self) -> str:
        return self._artifact.path.rpartition("/")[2]

    def _entry(self, content: str | None) -> Entry | None:
        return Entry(self._name, "artifact", content, get_size(self._shelf, content)) if content else None

    @property
    def _trio(self) -> Trio:
        base, target, source = (self._entry(content) for content in self.of)
        return Trio(self._artifact.path, base, target, source)

    def _merged(self, trio: Trio, prefer: Side, decided: Mapping[str, Any]) -> tuple[MergeAnswer, Entry | None]:
        """The answer, and what it gives if nothing is open."""
        pace = Pace(total=1)
        combining = Combining(self._shelf, self._target_root, {}, prefer, self._request.names, pace)
        found = combining.merged_contents(trio, decided)
        if found is None:
            raise self._too_long()
        answer, content, size = found
        return answer, Entry(self._name, "artifact", content, size) if answer.merged and content else None

    def _too_long(self) -> LimitError:
        return LimitError(
            f"checking {self._artifact.path} takes longer than an answer may",
            code="settle.long",
            hint="Settle its conflicts one by one: everyshelf settle",
        )


def _is_about(finding: FindingAnswer, conflict: ConflictAnswer) -> bool:
    """Whether a finding is about what is to be settled: the same field, or a part that is, or is above or below, it."""
    if conflict.field is not None:
        return finding.part == conflict.part and finding.field in (conflict.field, None)
    one, other = (f"{part.rstrip('/')}/" for part in (finding.part, conflict.part))
    return one.startswith(other) or other.startswith(one)
