"""Figures a test wants to be seen although it passes: the runner prints them under the module's name."""

from __future__ import annotations

SAID: list[str] = []


def say(line: str) -> None:
    """Keep one line for the end of the module; printed at once as well, for a runner that is not ours."""
    SAID.append(line)
    print(line)
