"""Text against text, by lines; runs of changed lines are one finding each."""

from __future__ import annotations

import itertools

from everyshelf.core.answers.comparisons import LineCounts
from everyshelf.core.compare.sequence import align
from everyshelf.core.outline.model import Effect, Finding, Step

_KEPT_CHARACTERS = 4000


def compare_texts(
    before: list[str], after: list[str], bare: tuple[list[str], list[str]] | None = None
) -> tuple[list[Finding], LineCounts]:
    """Findings of type ``line``, and how many lines were added and removed.

    A run that differs in nothing but white space is cosmetic; with ``bare`` (the same lines without their comments), so
    is one that differs in nothing but comments.
    """
    pairs = [(-1, -1), *align(before, after), (len(before), len(after))]
    findings = []
    added = removed = 0
    for (a, b), (c, d) in itertools.pairwise(pairs):
        old, new = before[a + 1 : c], after[b + 1 : d]
        if old or new:
            looks = (old, new) if bare is None else (bare[0][a + 1 : c], bare[1][b + 1 : d])
            findings.append(_finding(old, new, a + 2, b + 2, looks))
            removed, added = removed + len(old), added + len(new)
    return findings, LineCounts(added=added, removed=removed, before=len(before), after=len(after))


def _finding(old: list[str], new: list[str], at_old: int, at_new: int, code: tuple[list[str], list[str]]) -> Finding:
    action: Step = "changed" if old and new else "added" if new else "removed"
    start, count = (at_new, len(new)) if new else (at_old, len(old))
    label = f"line {start}" if count == 1 else f"lines {start}–{start + count - 1}"
    squeezed_old, squeezed_new = ("".join("".join(lines).split()) for lines in code)
    effect: Effect = "cosmetic" if squeezed_old == squeezed_new else "alters"
    return Finding(action, f"/line:{start}", "line", label, effect, None, _kept(old), _kept(new))


def _kept(lines: list[str]) -> str | None:
    text = "\n".join(lines)
    return (text if len(text) <= _KEPT_CHARACTERS else text[:_KEPT_CHARACTERS] + " …") if lines else None
