"""Rows known by their hashes: which come more often on one side, and whether one comes twice."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from everyshelf.core.tables.engine import Engine

_BUT_LAST = np.uint64(2**64 - 2)
_FIRST_BITS = 22
_BLOCK = 1 << 16
_SHIFT = np.uint64(64 - _FIRST_BITS)


def read_columns(engine: Engine, relation: str, wanted: Sequence[str]) -> list[np.ndarray]:
    """Numbers (SQL without nulls) of every row, in the order of rows."""
    pieces = [
        [column.to_numpy() for column in batch.columns]
        for batch in engine.batches(f"SELECT {', '.join(wanted)} FROM {relation}")
    ]
    return [np.concatenate(column) for column in zip(*pieces, strict=True)] or [np.empty(0, np.uint64) for _ in wanted]


def surplus(old: np.ndarray, new: np.ndarray) -> np.ndarray:
    """The hashes, without their last bit, that do not come equally often on both sides."""
    both = np.concatenate([old, new])
    both &= _BUT_LAST
    both[len(old) :] |= np.uint64(1)
    both.sort()
    # The last bit now tells the sides apart, and nearly every hash is one old one followed by one new one.
    is_same, is_pair = np.zeros((2, len(both) + 1), bool)  # as the one before
    for start in range(1, len(both), _BLOCK):
        before, these = both[start - 1 : start - 1 + _BLOCK], both[start : start + _BLOCK]
        before = before[: len(these)]
        differs = these ^ before
        is_same[start : start + len(these)] = differs <= 1
        is_pair[start : start + len(these)] = (differs == 1) & (these > before)
    is_alone, is_left = (~(told[:-1] | told[1:]) for told in (is_same, is_pair))
    several = np.unique(both[is_left & ~is_alone] & _BUT_LAST)
    firsts, seconds = np.searchsorted(both, several), np.searchsorted(both, several | np.uint64(1))
    ends = np.searchsorted(both, several | np.uint64(1), "right")
    uneven = several[seconds - firsts != ends - seconds]
    return np.sort(np.concatenate([both[is_alone] & _BUT_LAST, uneven]))


def places_of(hashes: np.ndarray, wanted: np.ndarray) -> np.ndarray:
    """Where any of the ``wanted`` (sorted, without their last bit) stands."""
    if not len(wanted):
        return np.empty(0, np.int64)
    # A table of the first bits leaves few to be looked for in earnest.
    may_be = np.zeros(1 << _FIRST_BITS, bool)
    may_be[(wanted >> _SHIFT).view(np.int64)] = True
    near = np.flatnonzero(may_be[(hashes >> _SHIFT).view(np.int64)])
    exact = hashes[near] & _BUT_LAST
    found = np.searchsorted(wanted, exact)
    found[found == len(wanted)] = 0
    places: np.ndarray = near[wanted[found] == exact]
    return places


def twice_in(hashes: np.ndarray) -> np.ndarray:
    """The hashes that come more than once."""
    ordered = np.sort(hashes)
    return np.unique(ordered[1:][ordered[1:] == ordered[:-1]])


def is_unique(engine: Engine, relation: str, values: Sequence[str], twice: np.ndarray | None = None) -> bool:
    """True if no two rows agree in all of these values.

    Values whose hashes agree (``twice``, if they are known) are compared themselves.
    """
    hashed = f"hash({', '.join(values)})"
    if twice is None and 16 * engine.row(f"SELECT count(*) FROM {relation}")[0] > engine.memory_bytes:
        # More hashes than may be held: the engine spills.
        wanted = ", ".join(values)
        return not engine.rows(f"SELECT 1 FROM {relation} GROUP BY {wanted} HAVING count(*) > 1 LIMIT 1")
    if twice is None:
        twice = twice_in(read_columns(engine, relation, [hashed])[0])
    if not len(twice):
        return True
    some = ", ".join(str(h) for h in twice[:1000])
    wanted = ", ".join(f"{value} AS v{n}" for n, value in enumerate(values))
    names = ", ".join(f"v{n}" for n in range(len(values)))
    return not engine.rows(
        f"SELECT 1 FROM (SELECT {wanted} FROM {relation} WHERE {hashed} IN ({some})) GROUP BY {names} "
        f"HAVING count(*) > 1 LIMIT 1"
    )
