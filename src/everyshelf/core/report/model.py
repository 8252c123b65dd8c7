"""What a report says, whatever it is written as."""

from __future__ import annotations

from typing import Literal

import msgspec

from everyshelf.core.answers.findings import FindingAnswer
from everyshelf.core.answers.states import CommitLine, ComparedArtifact, RefAnswer


class Report(msgspec.Struct, kw_only=True):
    """A comparison, or a promotion or its rehearsal. ``title`` names what was compared; ``made``: when, to the minute.

    ``conditions``: of a promotion, what must hold: whether it does, its name, and what is said of it. ``from_`` and
    ``to``: the two states, where they are states of a shelf; ``same``: how many artifacts are equal, where that is
    known. ``commits``: by path of an artifact, who made what differs, and why, newest first.
    """

    report: Literal["comparison", "rehearsal", "promotion"]
    conditions: list[tuple[bool, str, str]]
    title: str
    made: str
    from_: RefAnswer | None = msgspec.field(name="from", default=None)
    to: RefAnswer | None = None
    sentence: str
    effects: dict[str, int]
    same: int | None = None
    artifacts: list[ComparedArtifact]
    commits: dict[str, list[CommitLine]] = {}


def by_effect(artifact: ComparedArtifact) -> tuple[list[FindingAnswer], list[FindingAnswer]]:
    """The findings that matter, and the cosmetic ones."""
    shown = [finding for finding in artifact.findings if finding.effect != "cosmetic"]
    return shown, [finding for finding in artifact.findings if finding.effect == "cosmetic"]
