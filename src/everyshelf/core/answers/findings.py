"""One semantic difference, and whom it concerns."""

from __future__ import annotations

from typing import Any

from everyshelf.core.answers.base import Answer
from everyshelf.core.outline.model import Effect, Step


class Use(Answer):
    """A place in another artifact that uses the part of a breaking finding; ``exact``, or a guess from its words."""

    artifact: str
    place: str
    label: str
    exact: bool


class FindingAnswer(Answer):
    """One semantic difference (docs/kinds-inside.md). ``effect``: null where it was not read as what it is, so not
    judged; ``field``: left out for the whole part; ``within``: the part it lies in ("class Harbour", "sheet Fares")."""

    action: Step
    part: str
    type: str
    label: str
    before: Any
    after: Any
    effect: Effect | None
    field: str | None = None
    detail: str = ""
    within: str = ""
    used_by: list[Use] = []
