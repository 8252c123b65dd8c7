"""Versions and commits as they are shown."""

from __future__ import annotations

from datetime import datetime

import msgspec


class SeenCommit(msgspec.Struct, frozen=True):
    """A commit as it is shown."""

    pk: int
    uid: str
    root: str
    author: str
    time: datetime
    recorded: datetime
    summary: str
    description: str
    labels: dict[str, str]


class SeenArtifact(msgspec.Struct, frozen=True):
    """An artifact, whatever its path."""

    uid: str


class SeenVersion(msgspec.Struct, frozen=True):
    """A version as it is shown, with its commit and artifact."""

    pk: int
    artifact_id: int
    artifact: SeenArtifact
    commit_id: int
    commit: SeenCommit
    number: int | None
    path: str
    moved_from: str
    content: str
    size: int
    kind: str
    effect: str
    headline: str
