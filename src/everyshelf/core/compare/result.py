"""What a comparison of two versions of one artifact says."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from everyshelf.core.outline.model import ACTIONS, EFFECTS, Finding

DEFAULT_LIMIT = 10_000


@dataclass
class Comparison:
    """Findings with their exact counts; ``read_as`` is the kind, or "text" or "bytes" with a note that says why."""

    kind: str
    findings: list[Finding] = field(default_factory=list)
    read_as: str = ""
    note: str = ""
    identity: dict[str, list[str]] = field(default_factory=dict)
    table: dict[str, Any] | None = None
    tables: dict[str, dict[str, Any]] | None = None
    lines: dict[str, int] | None = None
    model: dict[str, Any] | None = None
    picture: dict[str, Any] | None = None

    @property
    def judged(self) -> bool:
        """False where something was not read as what it is: then nobody can say what a change does to users."""
        return all(finding.effect is not None for finding in self.findings)

    def as_json(self, limit: int = DEFAULT_LIMIT) -> dict[str, Any]:
        """The JSON form of house names; counts stay exact when findings are cut off at ``limit``."""
        result: dict[str, Any] = {
            "kind": self.kind,
            "equal": not self.findings,
            "counts": self._counted("action", ACTIONS),
            "effects": self._counted("effect", EFFECTS),
            "judged": self.judged,
            "findings": [finding.as_json() for finding in self.findings[:limit]],
            "read_as": self.read_as or self.kind,
            "note": self.note,
            "identity": self.identity,
            "truncated": len(self.findings) > limit,
        }
        if self.table is not None:
            result["table"] = self.table
        if self.tables is not None:
            result["tables"] = self.tables
        for name in ("lines", "model", "picture"):
            if getattr(self, name) is not None:
                result[name] = getattr(self, name)
        return result

    def _counted(self, attribute: str, names: tuple[str, ...]) -> dict[str, int]:
        counts = dict.fromkeys(names, 0)
        for finding in self.findings:
            if getattr(finding, attribute) is not None:
                counts[getattr(finding, attribute)] += 1
        return counts


def as_bytes(name: str, before: int, after: int, why: str, kind: str = "opaque") -> Comparison:
    """What can be said of contents nobody read: that they differ, their sizes, and why. No effect is told."""
    finding = Finding("changed", "/", "content", name, None, "bytes", before, after)
    note = f"not compared: {why or 'no reader knows it'}"
    return Comparison(kind, [finding], read_as="bytes", note=note)
