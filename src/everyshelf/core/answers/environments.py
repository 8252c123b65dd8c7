"""Artifacts of an environment: what a promotion would do to each, and how two environments differ."""

from __future__ import annotations

from typing import Literal

from everyshelf.core.answers.base import Answer
from everyshelf.core.answers.findings import FindingAnswer


class FreePlace(Answer, kw_only=True):
    """An address an environment can have: "new" is made with it, "empty" is a folder and "database" a file that lies
    there already."""

    address: str
    what: Literal["new", "empty", "database"]


class ArtifactThere(Answer, kw_only=True):
    """An artifact that is not the same on both sides: "added" is only on the second. ``effect``: empty where it was not
    judged; ``findings``: the first of them."""

    path: str
    name: str
    state: Literal["added", "changed", "removed"]
    kind: str
    effect: str
    headline: str
    findings: list[FindingAnswer]


class PlannedArtifact(ArtifactThere, kw_only=True):
    """What a promotion would do to an artifact, and the version it would be (null: none of the shelf)."""

    version: int | None
