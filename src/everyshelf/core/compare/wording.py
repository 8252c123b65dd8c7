"""Findings told in words people know: connections by what they join, long texts by their lines."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import replace
from itertools import pairwise
from typing import Any

from everyshelf.core.compare.sequence import align
from everyshelf.core.outline.model import Finding, Part

_ENDS_FROM = ("sourceRef", "from", "source", "fromPort")
_ENDS_TO = ("targetRef", "to", "target", "toPort")
_LONG = 120
_SQL = re.compile(r"\s*(?:select|with|insert|update|delete|create|alter|merge)\b", re.IGNORECASE)
_CODE = re.compile(r"[=(){}\[\];#<>|&$\\]")
_INDENTED = re.compile(r":[ \t]*(?:#.*)?\n[ \t]+\S")


def text_change(before: Any, after: Any, same: Callable[[str, str], bool] | None = None) -> str:
    """For two long texts, how many lines differ; empty for short ones. ``same``: whether two lines in the same place
    mean the same."""
    if not (isinstance(before, str) and isinstance(after, str)):
        return ""
    if "\n" not in before and "\n" not in after and max(len(before), len(after)) <= _LONG:
        return ""
    old, new = before.splitlines(), after.splitlines()
    pairs = align(old, new)
    kept = len(pairs)
    if same is not None:
        ends = [(-1, -1), *pairs, (len(old), len(new))]
        for (i, j), (next_i, next_j) in pairwise(ends):
            kept += sum(same(was, now) for was, now in zip(old[i + 1 : next_i], new[j + 1 : next_j], strict=False))
    return f"{len(new) - kept} of {len(new)} lines new, {len(old) - kept} of {len(old)} gone"


def names_in(before: Part, after: Part) -> Names:
    """Labels by id and key, of everything in both versions; looked up only once a connection has to be told."""
    return Names((before, after))


class Names:
    """What ids and keys are called by people."""

    def __init__(self, roots: tuple[Part, ...] = ()) -> None:
        self._roots = roots
        self._found: dict[str, str] | None = None

    def of(self, identity: Any) -> Any:
        """The label of what ``identity`` names; itself if nobody knows it."""
        if self._found is None:
            self._found = {}
            for root in self._roots:
                self._found.update(_labels(root))
        return self._found.get(str(identity), identity)

    def connection(self, finding: Finding, part: Part) -> Finding:
        """A connection by the labels of its ends; an end that moved is told as such."""
        start, end = _ends_of(part.fields)
        label = f"{self.of(start)} → {self.of(end)}" if start and end else finding.label
        before, after = self.of(finding.before), self.of(finding.after)
        if finding.field in _ENDS_TO:
            label = self.of(start) if start else label
            return replace(finding, label=str(label), before=before, after=after, detail="leads to")
        if finding.field in _ENDS_FROM:
            label = self.of(end) if end else label
            return replace(finding, label=str(label), before=before, after=after, detail="comes from")
        return replace(finding, label=label)


def same_but_spacing(before: Any, after: Any) -> bool:
    """True for two texts of several words that differ in white space alone.

    A single word with a blank more, a text of nothing but blanks, lines whose indentation says what belongs to what
    (one ends with a colon, the next stands deeper), and the line breaks of code other than SQL are content.
    """
    if not isinstance(before, str) or not isinstance(after, str):
        return False
    words = before.split()
    if len(words) < 2 or words != after.split():
        return False
    if _INDENTED.search(before) or _INDENTED.search(after):
        return _lines_of(before) == _lines_of(after)
    if [line.strip() for line in _lines_of(before)] == [line.strip() for line in _lines_of(after)]:
        return True
    return not _CODE.search(before) or (_SQL.match(before) is not None and "--" not in before)


def _lines_of(text: str) -> list[str]:
    return [line.rstrip() for line in text.strip("\r\n").splitlines() if line.strip()]


def _labels(root: Part) -> dict[str, str]:
    names: dict[str, str] = {}
    waiting = [root]
    while waiting:
        part = waiting.pop()
        if part.type != "connection":
            for identity in (part.fields.get("id"), part.fields.get("name"), part.key):
                if isinstance(identity, str) and identity:
                    names.setdefault(identity, part.label)
            waiting.extend(part.children())
    return names


def _ends_of(fields: dict[str, Any]) -> tuple[str, str]:
    start = next((str(fields[n]) for n in _ENDS_FROM if n in fields), "")
    end = next((str(fields[n]) for n in _ENDS_TO if n in fields), "")
    return start, end
