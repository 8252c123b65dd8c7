"""What a comparison of two versions of one artifact says."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from everyshelf.core.answers.base import as_builtins
from everyshelf.core.answers.comparisons import ComparisonAnswer, LineCounts
from everyshelf.core.answers.findings import FindingAnswer
from everyshelf.core.answers.models import ModelAnswer
from everyshelf.core.answers.pictures import PictureAnswer
from everyshelf.core.answers.tables import TableAnswer
from everyshelf.core.outline.model import ACTIONS, EFFECTS, Finding, plain

DEFAULT_LIMIT = 10_000


@dataclass
class Comparison:
    """Findings with their exact counts; ``read_as`` is the kind, or "text" or "bytes" with a note that says why."""

    kind: str
    findings: list[Finding] = field(default_factory=list)
    read_as: str = ""
    note: str = ""
    identity: dict[str, list[str]] = field(default_factory=dict)
    table: TableAnswer | None = None
    tables: dict[str, TableAnswer] | None = None
    lines: LineCounts | None = None
    model: ModelAnswer | None = None
    picture: PictureAnswer | None = None

    @property
    def judged(self) -> bool:
        """False where something was not read as what it is: then nobody can say what a change does to users."""
        return all(finding.effect is not None for finding in self.findings)

    def answer(self, limit: int = DEFAULT_LIMIT) -> ComparisonAnswer:
        """What interfaces get; counts stay exact when findings are cut off at ``limit``."""
        return ComparisonAnswer(
            kind=self.kind,
            equal=not self.findings,
            counts=self._counted("action", ACTIONS),
            effects=self._counted("effect", EFFECTS),
            judged=self.judged,
            findings=[finding_answer(finding) for finding in self.findings[:limit]],
            read_as=self.read_as or self.kind,
            note=self.note,
            identity=self.identity,
            truncated=len(self.findings) > limit,
            table=self.table,
            tables=self.tables,
            lines=self.lines,
            model=self.model,
            picture=self.picture,
        )

    def as_json(self, limit: int = DEFAULT_LIMIT) -> dict[str, Any]:
        """The answer as dicts and lists."""
        result: dict[str, Any] = as_builtins(self.answer(limit))
        return result

    def _counted(self, attribute: str, names: tuple[str, ...]) -> dict[str, int]:
        counts = dict.fromkeys(names, 0)
        for finding in self.findings:
            if getattr(finding, attribute) is not None:
                counts[getattr(finding, attribute)] += 1
        return counts


def finding_answer(finding: Finding) -> FindingAnswer:
    """A finding as interfaces get it: with values that JSON can hold."""
    return FindingAnswer(
        action=finding.action,
        part=finding.part,
        type=finding.type,
        label=str(finding.label),
        before=plain(finding.before),
        after=plain(finding.after),
        effect=finding.effect,
        field=finding.field,
        detail=finding.detail,
        within=finding.within,
    )


def as_bytes(name: str, before: int, after: int, why: str, kind: str = "opaque") -> Comparison:
    """What can be said of contents nobody read: that they differ, their sizes, and why. No effect is told."""
    finding = Finding("changed", "/", "content", name, None, "bytes", before, after)
    note = f"not compared: {why or 'no reader knows it'}"
    return Comparison(kind, [finding], read_as="bytes", note=note)
