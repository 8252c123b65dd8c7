"""What a merge of one artifact gives, and how people settle what it cannot decide."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

from msgspec import UNSET

from everyshelf.core.answers.merges import ConflictAnswer, DecisionAnswer, MergeAnswer, Take
from everyshelf.core.outline.model import plain

Side = Literal["target", "source"]
TAKES: tuple[Take, ...] = ("target", "source", "both", "edited")
SIDES: tuple[Take, Take] = ("target", "source")


@dataclass(frozen=True)
class SideNames:
    """What the sides are called in a sentence: "on main", "on this desk"."""

    target: str = "on the target"
    source: str = "on the source"


SIDE_NAMES = SideNames()


class _Nothing:
    """The value of what is not there; None is a value."""

    def __repr__(self) -> str:
        return "nothing"


NOTHING = _Nothing()


@dataclass(frozen=True)
class Decision:
    """How one conflict is settled: a side, both, or ``value`` in its place (``take`` is then "edited")."""

    take: Take
    value: Any = None


@dataclass
class Conflict:
    """One part or field that both sides changed in ways that do not go together.

    ``part``, ``type``, ``label`` and ``field`` as in a finding; ``base``, ``target`` and ``source`` the values (what is
    not there is ``NOTHING``); ``why`` a sentence; ``options`` the ways in which it can be settled.
    """

    part: str
    type: str
    label: str
    field: str | None
    base: Any
    target: Any
    source: Any
    why: str
    options: tuple[Take, ...] = ("target", "source", "edited")
    decision: Decision | None = None

    @property
    def id(self) -> str:
        """What a decision refers to: the part, and the field if it is about one."""
        return f"{self.part}#{self.field}" if self.field is not None else self.part

    def answer(self) -> ConflictAnswer:
        """What interfaces get; a side that has nothing there is left out."""
        decision = self.decision
        settled = None if decision is None else DecisionAnswer(take=decision.take)
        if settled is not None and decision is not None and decision.take == "edited":
            settled.value = plain_tree(decision.value)
        return ConflictAnswer(
            id=self.id,
            part=self.part,
            type=self.type,
            label=str(self.label),
            field=self.field,
            why=self.why,
            options=list(self.options),
            base=_side(self.base),
            target=_side(self.target),
            source=_side(self.source),
            decision=settled,
        )


def _side(value: Any) -> Any:
    return UNSET if value is NOTHING else plain_tree(value)


@dataclass
class Merged:
    """``content`` of the merged artifact, None while a conflict is open.

    ``conflicts``: all of them, settled ones with their decision. ``combined``: changes of both sides that are in it.
    ``notes``: what deserves a word (both inserted at one place, a count worked out anew). ``read_as``: the kind, or
    ``text`` or ``bytes`` where it was merged as such.
    """

    content: bytes | None
    conflicts: list[Conflict] = field(default_factory=list)
    combined: int = 0
    notes: list[str] = field(default_factory=list)
    kind: str = "opaque"
    read_as: str = "bytes"

    @property
    def open(self) -> list[Conflict]:
        """Conflicts that nobody has settled."""
        return [c for c in self.conflicts if c.decision is None]

    def answer(self) -> MergeAnswer:
        """What interfaces get."""
        return MergeAnswer(
            merged=self.content is not None,
            kind=self.kind,
            read_as=self.read_as,
            conflicts=[c.answer() for c in self.conflicts],
            combined=self.combined,
            notes=self.notes,
        )


Decisions = Mapping[str, Decision]
# What was decided about a conflict, or None.
Decide = Callable[["Conflict"], Decision | None]


def plain_tree(value: Any) -> Any:
    """A value of any reader as JSON can hold it; an XML element as an object of its attributes and what it holds."""
    if isinstance(value, tuple) and len(value) == 4:
        tag, attributes, text, children = value
        held = {"tag": tag, **{f"@{k}": v for k, v in attributes.items()}}
        if text:
            held["text"] = text
        if children:
            held["children"] = [plain_tree(c) for c in children]
        return held
    if isinstance(value, dict):
        return {str(k): plain_tree(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [plain_tree(v) for v in value]
    return plain(value) if isinstance(value, str | int | float | bool | None) else str(value)
