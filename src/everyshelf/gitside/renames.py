"""Which artifacts a commit of Git moved: what its trailers say, what is equal, and what has most lines in common."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Mapping
from pathlib import PurePosixPath

from everyshelf.core.history.trees import Entry

_MOST_BYTES = 256 * 1024  # a larger file is moved only if it is equal
_MOST_PAIRS = 400
_LEAST_SHARED = 0.5  # of the lines of the longer one

FileChanges = Mapping[str, tuple["Entry | None", "Entry | None"]]


def moves_of(
    changes: FileChanges, said: Iterable[tuple[str, str]], read: Callable[[str], bytes]
) -> list[tuple[str, str]]:
    """Old and new path of each move, by old path; ``read`` gives a content's bytes."""
    gone = {path: before for path, (before, after) in changes.items() if before is not None and after is None}
    come = {path: after for path, (before, after) in changes.items() if after is not None and before is None}
    moves: dict[str, str] = {}
    for old, new in said:
        taken = changes.get(old, (None, None))
        if taken[0] is not None and new in changes and changes[new][1] is not None and old not in moves:
            moves[old] = new
            gone.pop(old, None)
            come.pop(new, None)
    for pair in _equal(gone, come):
        moves[pair[0]] = pair[1]
        del gone[pair[0]], come[pair[1]]
    for old, new in _similar(gone, come, read):
        moves[old] = new
    return sorted(moves.items())


def _equal(gone: Mapping[str, Entry], come: Mapping[str, Entry]) -> list[tuple[str, str]]:
    """Content that went once and came once."""
    counts = [Counter(entry.id for entry in side.values()) for side in (gone, come)]
    places = {entry.id: path for path, entry in come.items()}
    once = [(path, e.id) for path, e in gone.items() if counts[0][e.id] == counts[1][e.id] == 1 and e.size]
    return [(path, places[content]) for path, content in once]


def _similar(
    gone: Mapping[str, Entry], come: Mapping[str, Entry], read: Callable[[str], bytes]
) -> list[tuple[str, str]]:
    """The best pairs with one suffix, best first; each path in one pair."""
    small = [{p: e for p, e in side.items() if 0 < e.size <= _MOST_BYTES} for side in (gone, come)]
    pairs = [
        (old, new)
        for old in small[0]
        for new in small[1]
        if PurePosixPath(old).suffix == PurePosixPath(new).suffix
        and max(small[0][old].size, small[1][new].size) * _LEAST_SHARED <= min(small[0][old].size, small[1][new].size)
    ]
    if not pairs or len(pairs) > _MOST_PAIRS:
        return []
    lines = {e.id: Counter(read(e.id).splitlines()) for side in small for e in side.values()}
    scored = []
    for old, new in pairs:
        one, other = lines[small[0][old].id], lines[small[1][new].id]
        shared = (one & other).total() / max(one.total(), other.total())
        if shared >= _LEAST_SHARED:
            scored.append((-shared, PurePosixPath(old).name != PurePosixPath(new).name, old, new))
    found: list[tuple[str, str]] = []
    for _, _, old, new in sorted(scored):
        if all(old != pair[0] and new != pair[1] for pair in found):
            found.append((old, new))
    return found
