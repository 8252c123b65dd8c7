"""Two texts as one list of lines, with the words that differ marked and equal stretches folded."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Literal

from everyshelf.core.compare.sequence import align

_CONTEXT = 2
_MOST_LINES = 4000
_WORD = re.compile(r"\w+|\s+|[^\w\s]")


@dataclass
class Line:
    """One line; ``pieces`` are its words, each with whether it differs from the other side."""

    kind: Literal["same", "old", "new", "gap"]
    text: str
    pieces: list[tuple[str, bool]] = field(default_factory=list)


def changed_lines(before: str, after: str) -> list[Line]:
    """Lines gone and come where they stood, two equal ones around them, the rest as one line that counts them."""
    old, new = before.splitlines()[:_MOST_LINES], after.splitlines()[:_MOST_LINES]
    lines: list[Line] = []
    i = j = 0
    for a, b in [*align(old, new), (len(old), len(new))]:
        lines += _replaced(old[i:a], new[j:b])
        if a < len(old):
            lines.append(Line("same", old[a]))
        i, j = a + 1, b + 1
    return list(_folded(lines))


def _replaced(old: list[str], new: list[str]) -> Iterator[Line]:
    """Lines against lines: as many as there are on both sides are compared word by word."""
    pairs = [words_apart(one, other) for one, other in zip(old, new, strict=False)]
    for k, text in enumerate(old):
        yield Line("old", text, pairs[k][0] if k < len(pairs) else [])
    for k, text in enumerate(new):
        yield Line("new", text, pairs[k][1] if k < len(pairs) else [])


def words_apart(before: str, after: str) -> tuple[list[tuple[str, bool]], list[tuple[str, bool]]]:
    """The words of both texts, each with whether the other side lacks it; empty where they have little in common."""
    old, new = _WORD.findall(before), _WORD.findall(after)
    if len(old) + len(new) > _MOST_LINES:
        return [], []
    pairs = align(old, new)
    shared = sum(len(old[i]) for i, _ in pairs if not old[i].isspace())
    if 3 * shared < max(len("".join(before.split())), len("".join(after.split()))):
        return [], []
    kept_old, kept_new = {i for i, _ in pairs}, {j for _, j in pairs}
    return _pieces(old, kept_old), _pieces(new, kept_new)


def _pieces(words: list[str], kept: set[int]) -> list[tuple[str, bool]]:
    found: list[tuple[str, bool]] = []
    for place, word in enumerate(words):
        differs = place not in kept
        if found and found[-1][1] == differs:
            found[-1] = (found[-1][0] + word, differs)
        else:
            found.append((word, differs))
    return found


def _folded(lines: list[Line]) -> Iterator[Line]:
    near = {
        k
        for place, line in enumerate(lines)
        if line.kind != "same"
        for k in range(place - _CONTEXT, place + _CONTEXT + 1)
    }
    hidden = 0
    for place, line in enumerate(lines):
        if place in near:
            if hidden:
                yield Line("gap", _equal(hidden))
            hidden = 0
            yield line
        else:
            hidden += 1
    if hidden:
        yield Line("gap", _equal(hidden))


def _equal(count: int) -> str:
    return f"{count} equal line{'s' if count > 1 else ''}"
