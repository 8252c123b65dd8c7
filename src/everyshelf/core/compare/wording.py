"""Findings told in words people know: connections by what they join, long texts by their lines."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from everyshelf.core.compare.sequence import align
from everyshelf.core.outline.model import Finding, Outline, Part

_ENDS_FROM = ("sourceRef", "from", "source", "fromPort")
_ENDS_TO = ("targetRef", "to", "target", "toPort")
_LONG = 120


def text_change(before: Any, after: Any) -> str:
    """For two long texts, how many lines differ; empty for short ones."""
    if not (isinstance(before, str) and isinstance(after, str)):
        return ""
    if "\n" not in before and "\n" not in after and max(len(before), len(after)) <= _LONG:
        return ""
    old, new = before.splitlines(), after.splitlines()
    kept = len(align(old, new))
    return f"{len(new) - kept} of {len(new)} lines new, {len(old) - kept} of {len(old)} gone"


def describe_connections(findings: list[Finding], before: Outline, after: Outline) -> list[Finding]:
    """Connections get the labels of their ends instead of ids, and a moved end is told as such."""
    if not any(f.type == "connection" for f in findings):
        return findings
    names = {**_labels(before.root), **_labels(after.root)}
    ends = {**_ends(before.root), **_ends(after.root)}
    return [_described(f, names, ends) if f.type == "connection" else f for f in findings]


def _labels(root: Part) -> dict[str, str]:
    names: dict[str, str] = {}
    waiting = [root]
    while waiting:
        part = waiting.pop()
        for identity in (part.fields.get("id"), part.fields.get("name"), part.key):
            if isinstance(identity, str) and identity:
                names.setdefault(identity, part.label)
        waiting.extend(part.children())
    return names


def _ends(root: Part) -> dict[str, tuple[str, str]]:
    """For each connection with an id: the ids of its two ends."""
    found: dict[str, tuple[str, str]] = {}
    waiting = [root]
    while waiting:
        part = waiting.pop()
        if part.type == "connection":
            found[part.label] = _ends_of(part.fields)
        waiting.extend(part.children())
    return found


def _ends_of(fields: dict[str, Any]) -> tuple[str, str]:
    start = next((str(fields[n]) for n in _ENDS_FROM if n in fields), "")
    end = next((str(fields[n]) for n in _ENDS_TO if n in fields), "")
    return start, end


def _described(finding: Finding, names: dict[str, str], ends: dict[str, tuple[str, str]]) -> Finding:
    held = finding.after if isinstance(finding.after, dict) else finding.before
    start, end = _ends_of(held) if isinstance(held, dict) else ends.get(finding.label, ("", ""))
    label = f"{names.get(start, start)} → {names.get(end, end)}" if start and end else finding.label
    if finding.field in _ENDS_TO:
        return replace(
            finding,
            label=names.get(start, label),
            before=names.get(str(finding.before), finding.before),
            after=names.get(str(finding.after), finding.after),
            detail="leads to",
        )
    if finding.field in _ENDS_FROM:
        return replace(
            finding,
            label=names.get(end, label),
            before=names.get(str(finding.before), finding.before),
            after=names.get(str(finding.after), finding.after),
            detail="comes from",
        )
    return replace(finding, label=label)
