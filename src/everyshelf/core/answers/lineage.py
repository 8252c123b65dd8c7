"""What a version was made from, what was made from it, and whether it can be made again."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from everyshelf.core.answers.base import Answer

MakingSort = Literal["run", "build", "commit", "copy"]


class LineageVersion(Answer):
    """A version in a lineage. ``distance``: 0 for the one asked about, below 0 for what it was made from, above 0 for
    what was made from it, in steps. ``runs_in``: environments that have exactly this content now."""

    id: str
    shelf: str
    artifact: str
    kind: str
    version: int | None
    content: str
    size: int
    commit: str
    author: str
    recorded: datetime | None
    distance: int
    runs_in: list[str] = []


class Making(Answer):
    """One step: a run, a build, a commit that says what it was made from, or a copy from another shelf.

    ``reads`` and ``writes``: ids of versions; what of them is not in this lineage is counted in ``more_reads`` and
    ``more_writes``. ``distance``: that of what it reads.
    """

    id: str
    sort: MakingSort
    name: str
    shelf: str
    commit: str
    command: str
    parameters: dict[str, Any]
    who: str
    began: datetime | None
    took_seconds: float | None
    reads: list[str]
    writes: list[str]
    distance: int
    code: str = ""
    experiment: str = ""
    number: int | None = None
    more_reads: int = 0
    more_writes: int = 0


class Ingredient(Answer):
    """One thing that is needed to make a version again; ``there`` is None where nothing says which it was."""

    what: Literal["command", "parameters", "input", "code"]
    name: str
    there: bool | None
    detail: str = ""


class Remake(Answer):
    """Whether a version can be made again: ``possible`` is None where nothing says how it was made."""

    possible: bool | None
    sentence: str
    needs: list[Ingredient]


class LineageAnswer(Answer):
    """The lineage of one version. ``more``: there are further steps than were followed."""

    artifact: str
    shelf: str
    version: int | None
    versions: list[LineageVersion]
    steps: list[Making]
    again: Remake
    sentence: str
    more: bool
