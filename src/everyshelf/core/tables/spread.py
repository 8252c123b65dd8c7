"""Large tables matched by their key in many processes, on this machine or on others.

Both files are cut into stretches of whole row groups. Each stretch gives of every row the key, a hash of the rest, and its
number, in shares by a hash of the key; the shares of the same keys come together in one process, which joins them. What
comes back are the numbers of the rows that differ. Everything that is said of those is worked out here, as it is without
other processes, so that counts and rows are the same.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import pyarrow as pa

from everyshelf.core.spreading import Spread, UnreachedError, told, use_for
from everyshelf.core.tables.changes import NoKeyError
from everyshelf.core.tables.columns import Source
from everyshelf.core.tables.differing import Differing
from everyshelf.core.tables.engine import Engine
from everyshelf.core.tables.expressions import Pair
from everyshelf.core.tables.parts import Cut, Part, join_share, shares_of, take_share
from everyshelf.core.tables.stretches import stretches_of

_SHARE_ROWS = 4_000_000


def by_spreading(
    engine: Engine, before: Source, after: Source, key: Sequence[Pair], cells: Sequence[Pair]
) -> Differing | None:
    """Find the rows that differ, in other processes; None where this process works alone, the tables are smaller than
    what is worth it, or the others cannot be reached. Raises ``NoKeyError``.
    """
    use = use_for(min(before.row_count, after.row_count))
    if use is None or before.file is None or after.file is None or before.left_out or after.left_out:
        return None
    try:
        with use.opened() as spread:
            parts: list[Part] = list(told(use, *_asked(spread, before, after, key, cells)))
    except UnreachedError as error:
        use.missed(str(error))
        return None
    if [sum(part.in_old for part in parts), sum(part.in_new for part in parts)] != [before.row_count, after.row_count]:
        raise NoKeyError("not unique")
    given, table = engine.name("given"), engine.name("differing")
    engine.register(given, pa.concat_tables(part.pairs for part in parts))
    engine.run(f"CREATE TEMP TABLE {table} AS SELECT ar, br FROM {given}")
    engine.unregister(given)
    return Differing(table, sum(part.matched for part in parts), list(range(len(cells))))


def _asked(
    spread: Spread, before: Source, after: Source, key: Sequence[Pair], cells: Sequence[Pair]
) -> tuple[Iterator[Part], int]:
    """The parts as they come, and how many there are."""
    shares = max(2, -(-max(before.row_count, after.row_count) // _SHARE_ROWS))
    sides: list[list[list[Any]]] = []
    for source, old in ((before, True), (after, False)):
        own: list[list[Any]] = [[] for _ in range(shares)]
        cut = _cut(key, cells, shares, old=old)
        for stretch in stretches_of(spread, source):
            rows = spread.submit(shares_of, stretch, cut)
            for share in range(shares):
                own[share].append(spread.submit(take_share, rows, share, soon=True))
        sides.append(own)
    joined = [
        spread.submit(join_share, sides[0][share], sides[1][share], len(key), soon=True) for share in range(shares)
    ]
    sides.clear()  # each share is let go of when it is joined
    return spread.as_done(joined), shares


def _cut(key: Sequence[Pair], cells: Sequence[Pair], shares: int, *, old: bool) -> Cut:
    rest = ", ".join(pair.hashed("t", old=old) for pair in cells)
    return Cut(
        keys=tuple((pair.old_value if old else pair.new_value)("t") for pair in key),
        rest=f"hash({rest})" if rest else "0::UBIGINT",
        share=", ".join(_shared(pair, old=old) for pair in key),
        shares=shares,
    )


def _shared(pair: Pair, *, old: bool) -> str:
    """What is equal on both sides where the values are, also under two types of number."""
    if pair.is_native:
        return pair.hashed("t", old=old)
    return (pair.old_value if old else pair.new_value)("t")
