"""What the lines of one text carried over from another."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence

from everyshelf.core.compare.same import likeness
from everyshelf.core.compare.sequence import align
from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.text import decode, read_alike
from everyshelf.core.origins.steps import LineStep

_LEAST_LIKE = 0.4
# Letters and digits of a line that is taken for the same elsewhere in the text; fewer do in a long one, where what
# stands between them tells it apart, too: ("bar", "f", "False"),
_LEAST_TELLING = 10
_LEAST_TELLING_LONG, _LONG = 6, 16
_MOST_PAIRS = 40_000
_WORDS = re.compile(r"\w+|[^\w\s]")


def lines_between(before: bytes | None, after: bytes) -> LineStep:
    """The step between two texts, or to a first one; a file that is not a text has no lines."""
    with read_alike(before, after):
        return line_step(_lines_of(before) if before is not None else [], _lines_of(after))


def _lines_of(data: bytes) -> list[str]:
    try:
        return decode(data).lines()
    except UnreadableError:
        return []


def line_step(before: Sequence[str], after: Sequence[str]) -> LineStep:
    """Lines that are equal but for their spaces are carried over, also to another place if they are the only ones like
    that; the others are new, or were made of the likeliest line in the same gap."""
    old, new = _bare(before), _bare(after)
    pairs = align(old, new)
    left_old, left_new = _without(len(old), [i for i, _ in pairs]), _without(len(new), [j for _, j in pairs])
    moved = _moved(old, new, left_old, left_new)
    carried = sorted([*pairs, *moved], key=lambda pair: pair[1])
    gone, come = {i for i, _ in moved}, {j for _, j in moved}
    changed = _made_of(
        before, after, pairs, [i for i in left_old if i not in gone], [j for j in left_new if j not in come]
    )
    return LineStep(
        lines=len(after),
        before=len(before),
        runs=_runs(carried),
        changed=changed,
        looks=[j for i, j in carried if before[i] != after[j]],
        moved=sorted(come),
    )


def _bare(lines: Sequence[str]) -> list[str]:
    return ["".join(line.split()) for line in lines]


def _without(count: int, taken: list[int]) -> list[int]:
    known = set(taken)
    return [place for place in range(count) if place not in known] if len(known) < count else []


def _moved(old: list[str], new: list[str], left_old: list[int], left_new: list[int]) -> list[tuple[int, int]]:
    counts_old, counts_new = Counter(old[i] for i in left_old), Counter(new[j] for j in left_new)
    place = {old[i]: i for i in left_old if counts_old[old[i]] == 1}
    return [(place[new[j]], j) for j in left_new if counts_new[new[j]] == 1 and new[j] in place and _is_telling(new[j])]


def _is_telling(line: str) -> bool:
    """Whether a line, without its spaces, says enough to be the same elsewhere."""
    return sum(map(str.isalnum, line)) >= (_LEAST_TELLING_LONG if len(line) >= _LONG else _LEAST_TELLING)


def _made_of(
    before: Sequence[str], after: Sequence[str], pairs: list[tuple[int, int]], old: list[int], new: list[int]
) -> dict[int, int]:
    """New line -> the line it was made of, within the gaps between lines that are in both."""
    gaps: dict[tuple[int, int], tuple[list[int], list[int]]] = {}
    for side, places in ((0, old), (1, new)):
        bounds = iter([*(pair[side] for pair in pairs), max(len(before), len(after)) + 1])
        bound, number = next(bounds), 0
        for place in places:
            while place > bound:
                bound, number = next(bounds), number + 1
            gaps.setdefault((number, 0), ([], []))[side].append(place)
    found: dict[int, int] = {}
    for gone, come in gaps.values():
        if gone and come and len(gone) * len(come) <= _MOST_PAIRS:
            words = {i: _words(before[i]) for i in gone}
            taken: set[int] = set()
            for j in come:
                mine = _words(after[j])
                alike = [(likeness(words[i], mine), -i) for i in gone if i not in taken]
                best = max(alike, default=(0.0, 0))
                if best[0] >= _LEAST_LIKE:
                    found[j] = -best[1]
                    taken.add(-best[1])
    return found


def _words(line: str) -> frozenset[str]:
    return frozenset(_WORDS.findall(line))


def _runs(pairs: list[tuple[int, int]]) -> list[tuple[int, int, int]]:
    runs: list[tuple[int, int, int]] = []
    for old, new in pairs:
        if runs and runs[-1][0] + runs[-1][2] == old and runs[-1][1] + runs[-1][2] == new:
            runs[-1] = (runs[-1][0], runs[-1][1], runs[-1][2] + 1)
        else:
            runs.append((old, new, 1))
    return runs
