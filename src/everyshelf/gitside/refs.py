"""Names of branches and tags, as both sides may have them."""

from __future__ import annotations

import re

# What ``git check-ref-format`` refuses.
_WRONG = re.compile(r"[\x00-\x20\x7f~^:?*\[\\]|\.\.|@\{|//|(^|/)\.|\.lock(/|$)|\.$|^/|/$|^@$|^-")


def git_ref(below: str, name: str) -> str | None:
    """``refs/BELOW/NAME``; None where Git has no such name."""
    return None if not name or _WRONG.search(name) else f"refs/{below}/{name}"
