"""What a merge of one artifact gives, and the conflicts people settle."""

from __future__ import annotations

from typing import Any, Literal

from msgspec import UNSET

from everyshelf.core.answers.base import Answer

Take = Literal["target", "source", "both", "edited"]


class DecisionAnswer(Answer):
    """How a conflict was settled, with the ``value`` where it was edited; ``by`` whom, where a merge waits for it."""

    take: Take
    value: Any = UNSET
    by: str = ""


class ConflictAnswer(Answer):
    """One part or field that both sides changed in ways that do not go together: the values (a side that has nothing
    there is left out), a sentence that says why, and the ways in which it can be settled."""

    id: str
    part: str
    type: str
    label: str
    field: str | None
    why: str
    options: list[Take]
    base: Any = UNSET
    target: Any = UNSET
    source: Any = UNSET
    decision: DecisionAnswer | None = None


class MergeAnswer(Answer):
    """``merged``: every conflict is settled and the merged file is written. ``combined``: how many changes of both
    sides are in it; ``read_as``: the kind, or ``text`` or ``bytes`` where it was merged as such."""

    merged: bool
    kind: str
    read_as: str
    conflicts: list[ConflictAnswer]
    combined: int
    notes: list[str]


class ArtifactMerge(Answer):
    """An artifact both sides changed: content ids (null: not there), and what is to be settled. ``result``: the content
    it becomes, once nothing of it is open."""

    path: str
    kind: str
    base: str | None
    target: str | None
    source: str | None
    open: bool
    conflicts: list[ConflictAnswer]
    notes: list[str]
    combined: int
    result: str | None
