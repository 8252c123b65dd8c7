"""Who last set each part of an artifact, and the forms a part had before."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from everyshelf.core.answers.base import Answer


class OriginCommit(Answer):
    """The version and commit that set something; ``path``: of the artifact then; ``others``: how many other artifacts
    the commit touched."""

    version: int | None
    commit: str
    author: str
    recorded: datetime
    summary: str
    tasks: list[str]
    path: str
    merge: bool
    others: int


class FieldOrigin(Answer):
    """A field of a part, its value as far as a line shows it, and the commit that last set it; ``looks``: the commit
    that changed nothing but its looks since."""

    name: str
    value: Any
    set: str
    looks: str | None = None


class PartOrigin(Answer):
    """A part of an artifact and the commit that last set it or anything in it; ``own``: the commit that added it.
    ``depth``: how many parts it lies in; ``looks``: the commit that changed nothing but its looks since."""

    path: str
    type: str
    label: str
    depth: int
    set: str
    own: str
    fields: list[FieldOrigin]
    looks: str | None = None


class LinesOrigin(Answer):
    """Lines in a row that one commit last set, counted from 1; ``looks``: the one that changed their spaces since."""

    first: int
    count: int
    set: str
    looks: str | None = None


class RowsOrigin(Answer):
    """What a commit did to the rows of a table: how many it added, removed and changed; ``table``: where the artifact
    holds several; ``whole``: it has nothing in common with the one before, or could not be compared."""

    table: str
    set: str
    added: int
    removed: int
    changed: int
    whole: bool = False


class RemovedPart(Answer):
    """A part that is not there any more, and the commit that removed it."""

    path: str
    type: str
    label: str
    removed: str


class OriginsAnswer(Answer, kw_only=True):
    """Who last set each part (or line) of an artifact. ``commits``: by id, those that are named. ``form``: parts,
    lines, or whole where it could not be read; ``total``: how many parts, or runs of lines, there are, of which this is
    a page from ``start``; ``moves``, ``merges``: how many the line of versions went through."""

    path: str
    version: int | None
    kind: str
    form: Literal["parts", "lines", "rows", "whole"]
    note: str
    total: int
    start: int
    versions: int
    moves: int
    merges: int
    commits: dict[str, OriginCommit]
    parts: list[PartOrigin] = []
    lines: list[LinesOrigin] = []
    rows: list[RowsOrigin] = []
    removed: list[RemovedPart] = []


class FieldForm(Answer):
    """What became of a field (the empty name: of the part's name); ``touch``: set, looks, or removed."""

    name: str
    touch: Literal["set", "looks", "removed"]
    before: Any
    after: Any


class PartForm(Answer, kw_only=True):
    """What a commit did to a part: added it, changed it (``fields``, or something in it), moved it, changed its looks.
    ``before`` and ``after``: of a line."""

    action: Literal["added", "changed", "moved", "looks", "removed"]
    commit: OriginCommit
    fields: list[FieldForm] = []
    within: int = 0
    before: str | None = None
    after: str | None = None


class FormsAnswer(Answer):
    """The forms of one part, newest first: all commits that touched it."""

    path: str
    part: str
    type: str
    label: str
    forms: list[PartForm]
