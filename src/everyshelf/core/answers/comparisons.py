"""Two versions of an artifact, or two files, compared."""

from __future__ import annotations

from everyshelf.core.answers.base import Answer
from everyshelf.core.answers.findings import FindingAnswer
from everyshelf.core.answers.models import ModelAnswer
from everyshelf.core.answers.pictures import PictureAnswer
from everyshelf.core.answers.tables import TableAnswer


class LineCounts(Answer):
    """Lines of a text that came and went, and how many there are on each side."""

    added: int
    removed: int
    before: int
    after: int


class Compared(Answer, kw_only=True):
    """What was found between two versions of anything. ``counts`` of findings by action and ``effects`` by effect are
    exact even where the list is ``truncated``; ``judged`` is false where something could not be read as what it is;
    ``read_as``: the kind, or "text" or "bytes" with a note that says why."""

    kind: str
    counts: dict[str, int]
    effects: dict[str, int]
    judged: bool
    findings: list[FindingAnswer]
    read_as: str
    note: str
    truncated: bool
    table: TableAnswer | None = None
    tables: dict[str, TableAnswer] | None = None
    lines: LineCounts | None = None
    model: ModelAnswer | None = None
    picture: PictureAnswer | None = None


class ComparisonAnswer(Compared, kw_only=True):
    """Two files compared. ``identity``: by type of part, the fields that tell parts apart."""

    equal: bool
    identity: dict[str, list[str]]
