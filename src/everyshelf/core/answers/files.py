"""Files taken apart, put together again, and edited by cell."""

from __future__ import annotations

from dataclasses import dataclass

from everyshelf.core.answers.base import Answer


class UnfoldedFile(Answer):
    """One part as a file; ``size`` in bytes, ``text`` null where it is not text, or is too long to show."""

    path: str
    size: int
    text: str | None


class UnfoldedAnswer(Answer):
    """An artifact as readable parts."""

    files: list[UnfoldedFile]
    notes: list[str]


class FoldedAnswer(Answer):
    """The one file that parts make."""

    name: str
    notes: list[str]


class CellsAnswer(Answer):
    """A small table as texts, for editing it by cell; ``note`` says why there is nothing.

    ``forms``: for each column a regular expression that a value with something in it has to match as a whole; empty
    where the column takes any text.
    """

    columns: list[str]
    forms: list[str]
    rows: list[list[str]]
    note: str


class ArtifactCells(CellsAnswer, kw_only=True):
    """The same for an artifact, with the id of its content."""

    content: str


@dataclass(frozen=True)
class FollowedPart:
    """Where a part of an older version is in a newer: its path (null: gone) and its label."""

    part: str | None
    label: str = ""
