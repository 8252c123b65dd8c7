"""The merge of an artifact as a whole: for what is not there on a side, and for what has no parts to merge."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TypeVar

from everyshelf.core.answers.merges import MergeAnswer
from everyshelf.core.merge.model import SIDE_NAMES, SIDES, Conflict, Decision, Merged, Side, SideNames

T = TypeVar("T")


@dataclass(frozen=True)
class Choice:
    """Which side's state to take, or None for a conflict."""

    side: Side | None


def whole_conflict(
    name: str,
    sizes: Sequence[int],
    why: str,
    prefer: str | None,
    decisions: Mapping[str, Decision],
    names: SideNames = SIDE_NAMES,
) -> MergeAnswer:
    """The answer for a file of which only the target or the source can be taken as a whole."""
    settled = decisions.get("/")
    take = settled.take if settled is not None else prefer
    base, target, source = (f"{size:,} bytes" for size in sizes)
    told = f"artifact “{name}”: changed {names.target} and {names.source}; it cannot be merged by meaning"
    conflict = Conflict("/", "artifact", name, None, base, target, source, told, SIDES)
    if take in SIDES:
        conflict.decision = Decision("source" if take == "source" else "target")
    merged = Merged(None, [conflict], notes=[why] if why else [])
    answer = merged.answer()
    answer.merged = conflict.decision is not None
    return answer


def merge_whole(base: T | None, target: T | None, source: T | None, prefer: Side | None = None) -> Choice:
    """Whose state of the artifact holds after the merge; None on either side means that it is not there."""
    if target == source or source == base:
        return Choice("target")
    if target == base:
        return Choice("source")
    return Choice(prefer)
