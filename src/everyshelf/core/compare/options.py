"""How two versions are compared, beyond what they hold."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

from everyshelf.core.kinds.rules import Rules

MOST_FINDINGS = 10_000


@dataclass(frozen=True)
class CompareOptions:
    """``rules``: what the team says of its files. ``kind``: read both sides as this kind. ``key``: the columns that
    tell rows apart, in place of those the rules name. ``limit``: most findings listed; counts stay exact. ``rows``: the
    file that all rows of a table that differ are written to."""

    rules: Rules = field(default_factory=Rules)
    kind: str | None = None
    key: tuple[str, ...] = ()
    limit: int = MOST_FINDINGS
    rows: Path | None = None
