"""How the test cases of one run ended, counted."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Results:
    """How many cases ended how, and the first that did not pass."""

    passed: int
    failed: int
    skipped: int
    first: tuple[str, ...]

    @property
    def is_passed(self) -> bool:
        """True if something ran and nothing failed."""
        return self.passed > 0 and not self.failed

    @property
    def sentence(self) -> str:
        """40 of 41 passed, 2 skipped; failed: …"""
        said = f"{self.passed} of {self.passed + self.failed} passed"
        if self.skipped:
            said += f", {self.skipped} skipped"
        return said + (f"; failed: {', '.join(self.first)}" if self.first else "")
