"""One artifact of the demo in two versions."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Pair:
    """One artifact before and after; ``kind`` is what it is read as, ``says`` what the comparison finds."""

    path: str
    kind: str
    before: bytes
    after: bytes
    says: str
