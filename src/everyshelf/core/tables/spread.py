"""Large tables matched by their key in many processes, on this machine or on others.

Both files are cut into stretches of whole row groups. Each stretch gives of every row the key, a hash of the rest, and its
number, in shares by a hash of the key; the shares of the same keys come together in one process, which joins them. What
comes back are the numbers of the rows that differ. Everything that is said of those is worked out here, as it is without
other processes, so that counts and rows are the same.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol

import pyarrow as pa

from everyshelf.core.errors import EveryShelfError
from everyshelf.core.tables.changes import NoKeyError
from everyshelf.core.tables.columns import Source
from everyshelf.core.tables.differing import Differing
from everyshelf.core.tables.engine import Engine
from everyshelf.core.tables.expressions import Pair
from everyshelf.core.tables.parts import Bytes, Handed, Part, Stretch, join_share, made_by, shares_of, take_share

_STRETCH_ROWS = 2_000_000
_SHARE_ROWS = 4_000_000


class UnreachedError(EveryShelfError):
    """The processes cannot be reached, or went down again and again; the work is done here instead."""


class Spread(Protocol):
    """Processes that work out parts."""

    def hand_over(self, path: Path) -> Handed:
        """Make a file reachable from where the parts are worked out."""

    def submit(self, work: Callable[..., Any], *given: Any, soon: bool = False) -> Any:
        """Have something worked out; what earlier calls gave may be given, also within lists. ``soon``: before what was
        asked for earlier, because it sets memory free. Raises ``UnreachedError``."""

    def as_done(self, pending: Sequence[Any]) -> Iterator[Any]:
        """The results, each as it is there. Raises ``UnreachedError``."""


@dataclass
class Use:
    """How this process comes by others, from how many rows on, and whom it tells how many parts are done, or why it did
    the work itself."""

    opened: Callable[[], AbstractContextManager[Spread]]
    worth: int
    tell: Callable[[int, int], None] = lambda done, total: None
    missed: Callable[[str], None] = lambda why: None


_used: list[Use | None] = [None]


def spread_over(use: Use | None) -> None:
    """Say with which processes this one compares large tables; None for itself alone."""
    _used[0] = use


def by_spreading(
    engine: Engine, before: Source, after: Source, key: Sequence[Pair], cells: Sequence[Pair]
) -> Differing | None:
    """Find the rows that differ, in other processes; None where this process works alone, the tables are smaller than
    what is worth it, or the others cannot be reached. Raises ``NoKeyError``.
    """
    use = _used[0]
    if use is None or before.file is None or after.file is None:
        return None
    if min(before.row_count, after.row_count) < use.worth or before.left_out or after.left_out:
        return None
    try:
        with use.opened() as spread:
            parts = list(_told(use, *_asked(spread, before, after, key, cells)))
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
        for stretch in _stretches(spread, source, key, cells, shares, old=old):
            cut = spread.submit(shares_of, stretch)
            for share in range(shares):
                own[share].append(spread.submit(take_share, cut, share, soon=True))
        sides.append(own)
    joined = [
        spread.submit(join_share, sides[0][share], sides[1][share], len(key), soon=True) for share in range(shares)
    ]
    sides.clear()  # each share is let go of when it is joined
    return spread.as_done(joined), shares


def _told(use: Use, parts: Iterator[Part], total: int) -> Iterator[Part]:
    for done, part in enumerate(parts, 1):
        use.tell(done, total)
        yield part


def _stretches(
    spread: Spread, source: Source, key: Sequence[Pair], cells: Sequence[Pair], shares: int, *, old: bool
) -> Iterator[Stretch]:
    assert source.file is not None
    handed = spread.hand_over(source.file)
    rest = ", ".join(pair.hashed("t", old=old) for pair in cells)
    for low, high, needed in row_stretches(source.file):
        yield Stretch(
            file=handed,
            needed=needed,
            columns=tuple(source.columns),
            low=low,
            high=high,
            keys=tuple((pair.old_value if old else pair.new_value)("t") for pair in key),
            rest=f"hash({rest})" if rest else "0::UBIGINT",
            share=", ".join(_shared(pair, old=old) for pair in key),
            shares=shares,
            made_by=made_by(),
        )


def _shared(pair: Pair, *, old: bool) -> str:
    """What is equal on both sides where the values are, also under two types of number."""
    if pair.is_native:
        return pair.hashed("t", old=old)
    return (pair.old_value if old else pair.new_value)("t")


def row_stretches(path: Path) -> Iterator[tuple[int, int, tuple[Bytes, ...]]]:
    """The first and last row of each stretch of whole row groups, with the bytes of the file that hold it and those that
    say how to read it."""
    import pyarrow.parquet as pq  # slow to load, and few files need it

    footer, size = pq.read_metadata(path), path.stat().st_size
    told = (size - footer.serialized_size - 8, size)  # Apache Parquet format: footer, its length, four letters
    low, rows, start, end = 1, 0, size, 0
    for n in range(footer.num_row_groups):
        group = footer.row_group(n)
        chunks = [group.column(place) for place in range(group.num_columns)]
        for chunk in chunks:
            first = min(o for o in (chunk.dictionary_page_offset, chunk.data_page_offset) if o)
            start, end = min(start, first), max(end, first + chunk.total_compressed_size)
        rows += group.num_rows
        if rows >= _STRETCH_ROWS or n == footer.num_row_groups - 1:
            yield low, low + rows - 1, ((0, 4), (start, end), told)
            low, rows, start, end = low + rows, 0, size, 0
