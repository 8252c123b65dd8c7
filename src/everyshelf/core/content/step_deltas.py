"""Parts of steps said by others that are much like them.

Between two versions most steps stay. How far back they copy from changes where a text in between became longer or
shorter, for each copy over that place; but it follows from the steps, as these say how long the text is. So only the
steps that are new are kept, and of distances what does not follow::

    2 B  runs      2 B each: steps that are new; steps of the base passed over; steps that are the same
    a part as ``unpacking`` says it: the new steps, and the distances of all copies less those that follow

as a Zstandard frame (RFC 8878) with the base's bytes as raw dictionary, for the codes of blocks.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

import numpy as np
import zstandard
from numpy.typing import NDArray

from everyshelf.core.content.deflate import LITERALS, SHORTEST
from everyshelf.core.content.unpacking import Steps
from everyshelf.core.errors import BrokenError

_SAME = 12  # steps that must agree for two places to be the same
_NEAR = 48  # steps that an edit adds or removes at most, to be found at once
_AHEAD = 160
_FACTORS = np.array([pow(0x9E3779B97F4A7C15, k, 1 << 64) for k in range(1, _SAME + 1)], np.uint64)
_COUNT = struct.Struct("<H")
_RUNS_BYTES = 6 * 65_536
_RUN = np.dtype("<u2")


def encode_step_delta(data: bytes, base: bytes, level: int) -> bytes:
    """What of a part differs from the base. Raises ``BrokenError`` unless both are parts of steps."""
    new, old = Steps.decoded(data), Steps.decoded(base)
    runs = np.array(list(_runs(new.steps, old.steps)), _RUN).reshape(-1, 3)
    is_new = np.ones(len(new.steps), np.bool_)
    for start, many in _in_new(runs):
        is_new[start : start + many] = False
    less = Steps(new.steps[is_new], new.distances - _following(runs, new.steps, old), new.borders, new.within)
    passed = runs.copy()
    passed[1:, 1] -= runs[:-1, 1] + runs[:-1, 2]
    plain = _COUNT.pack(len(runs)) + passed.T.tobytes() + less.encoded()
    return zstandard.ZstdCompressor(level=level, dict_data=_dictionary(base), write_dict_id=False).compress(plain)


def decode_step_delta(frame: bytes, base: bytes, most: int) -> bytes:
    """The bytes of the part, ``most`` at most. Raises ``BrokenError``."""
    unpacker = zstandard.ZstdDecompressor(dict_data=_dictionary(base))
    try:
        plain = unpacker.decompress(frame, max_output_size=2 * most + _RUNS_BYTES)
        (count,) = _COUNT.unpack_from(plain)
        runs = np.frombuffer(plain, _RUN, 3 * count, _COUNT.size).reshape(3, -1).T.copy()
        ends = np.cumsum(runs[:, 1:].sum(axis=1, dtype=np.uint16), dtype=np.uint16)
        runs[:, 1] = ends - runs[:, 2]
        less, old = Steps.decoded(plain[_COUNT.size + runs.nbytes :]), Steps.decoded(base)
        steps = _with_same(runs, less.steps, old.steps)
        distances = less.distances + _following(runs, steps, old)
    except (zstandard.ZstdError, struct.error, ValueError, IndexError) as error:
        raise BrokenError(f"a delta of steps does not fit its base: {error}") from error
    return Steps(steps, distances, less.borders, less.within).encoded()


def _dictionary(base: bytes) -> zstandard.ZstdCompressionDict:
    return zstandard.ZstdCompressionDict(base, dict_type=zstandard.DICT_TYPE_RAWCONTENT)


def _in_new(runs: NDArray[np.uint16]) -> list[tuple[int, int]]:
    """Where in the new steps each run begins, and how many it has."""
    alone, many = runs[:, 0].astype(np.int64), runs[:, 2].astype(np.int64)
    return list(zip((np.cumsum(alone + many) - many).tolist(), many.tolist(), strict=True))


def _with_same(runs: NDArray[np.uint16], new: NDArray[np.uint16], old: NDArray[np.uint16]) -> NDArray[np.uint16]:
    """The new steps with those that are the same between them."""
    pieces, at = [], 0
    for alone, first, many in runs.tolist():
        pieces += [new[at : at + alone], old[first : first + many]]
        at += alone
    return np.concatenate([*pieces, new[at:]])


def _following(runs: NDArray[np.uint16], steps: NDArray[np.uint16], old: Steps) -> NDArray[np.uint16]:
    """Of each copy, the distance that follows from the base: where what it copies from lies now. 0 for new ones."""
    alone, first, many = runs.astype(np.int64).T
    starts = np.cumsum(alone + many) - many
    if len(runs) and (starts[-1] + many[-1] > len(steps) or (first + many).max() > len(old.steps)):
        raise BrokenError("a delta of steps does not fit its base")
    ours, theirs = _places(steps), _places(old.steps)
    moved = ours[starts] - theirs[first]  # by how much the text of each run lies farther on
    copies, known = np.flatnonzero(steps >= LITERALS), np.cumsum(old.steps >= LITERALS)
    run = np.searchsorted(starts, copies, "right") - 1
    is_same = (run >= 0) & (copies < (starts + many)[run]) if len(runs) else np.zeros(len(copies), np.bool_)
    run = run[is_same]
    there = copies[is_same] - starts[run] + first[run]  # the same step of the base
    distances = old.distances[known[there] - 1].astype(np.int64)
    sources = np.searchsorted(theirs[first], theirs[there] - distances - 1, "right") - 1
    found = np.zeros(len(copies), np.int64)
    found[is_same] = distances + moved[run] - np.where(sources >= 0, moved[sources], 0)
    return (found & 0xFFFF).astype(np.uint16)


def _places(steps: NDArray[np.uint16]) -> NDArray[np.int64]:
    """Where in the text the bytes of each step begin."""
    lengths = np.where(steps >= LITERALS, steps.astype(np.int64) - (LITERALS - SHORTEST), 1)
    return np.cumsum(lengths) - lengths


def _runs(new: NDArray[np.uint16], old: NDArray[np.uint16]) -> Iterator[tuple[int, int, int]]:
    """Rows of steps that are the same, in the order of both: how many before them are new, the first of the base, and
    how many."""
    done = last = 0
    for start, other, length in _same_steps(new, old):
        if other >= last:  # what was moved to another place is new
            yield start - done, other, length
            done, last = start + length, other + length


def _same_steps(new: NDArray[np.uint16], old: NDArray[np.uint16]) -> Iterator[tuple[int, int, int]]:
    """Rows of steps that are the same, in the order of both: where they begin in each, and how many."""
    there = old.tobytes()
    at = other = 0
    while at < len(new) and other < len(old):
        length = _equal(new[at:], old[other:])
        if length:
            yield at, other, length
        at, other = at + length, other + length
        found = _next_near(
            new[at : at + _AHEAD], old[max(0, other - _NEAR) : other + _AHEAD + _NEAR], min(other, _NEAR)
        )
        if found is not None:
            at, other = at + found[0], other + found[1]
            continue
        at += _AHEAD  # much was put in or taken out: look for what follows it, anywhere behind
        place = there.find(new[at : at + 2 * _SAME].tobytes(), 2 * other) if at + 2 * _SAME <= len(new) else -1
        if place >= 0 and place % 2 == 0:
            other = place // 2


def _equal(one: NDArray[np.uint16], other: NDArray[np.uint16]) -> int:
    """How many steps both begin with."""
    count = min(len(one), len(other))
    differs = one[:count] != other[:count]
    first = int(differs.argmax()) if count else 0
    return first if count and differs[first] else count


def _next_near(new: NDArray[np.uint16], old: NDArray[np.uint16], origin: int) -> tuple[int, int] | None:
    """How far on both are the same again, ``old`` beginning ``origin`` steps before its place; None for not near."""
    if len(new) < _SAME or len(old) < _SAME:
        return None
    ours = np.lib.stride_tricks.sliding_window_view(new, _SAME)
    theirs = np.lib.stride_tricks.sliding_window_view(old, _SAME)
    keys, known = _keys(ours), _keys(theirs)
    order = np.argsort(known, kind="stable")
    starts = np.searchsorted(known[order], keys, "left").tolist()
    stops = np.searchsorted(known[order], keys, "right").tolist()
    for k, (start, stop) in enumerate(zip(starts, stops, strict=True)):
        far = order[start:stop].astype(np.int64) - origin
        far = far[(far >= 0) & (far + k > 0)]
        if len(far):
            near = int(far[np.abs(far - k).argmin()])
            if abs(near - k) <= _NEAR:
                return k, near
    return None


def _keys(windows: NDArray[np.uint16]) -> NDArray[np.uint64]:
    """A number for each window, the same for the same steps, and hardly ever for others."""
    keys: NDArray[np.uint64] = (windows.astype(np.uint64) * _FACTORS).sum(axis=1, dtype=np.uint64)
    return keys
