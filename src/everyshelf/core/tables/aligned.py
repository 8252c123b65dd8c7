"""Rows matched by a key of whole numbers without a join.

The older table's keys are laid into one array that says where each stands; then the newer table passes by, and every row
of it finds its partner by a gather. Keys too far apart for that are found by bisection. What is kept of a row is a 64-bit
hash of its cells, as in a join; the keys themselves are compared exactly.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np
import pyarrow as pa

from everyshelf.core.tables.changes import NoKeyError
from everyshelf.core.tables.columns import INTEGERS, Source
from everyshelf.core.tables.differing import Differing
from everyshelf.core.tables.engine import Engine
from everyshelf.core.tables.expressions import Pair

WORTH_ALIGNING = 50_000  # rows below which a join is as quick
_SPREAD = 4  # the array may be so many times as long as there are rows
_SAMPLE = 2_048
_MOST_SAMPLED_COLUMNS = 100
_MOST_EXPECTED = 3
_SHARE_OF_MEMORY = 0.6


def sampled(engine: Engine, before: Source, after: Source, key: Sequence[Pair], cells: Sequence[Pair]) -> list[int]:
    """Places of the cells in which the first rows of both tables differ under the key, most often first.

    Nothing follows from it but what is worth asking for.
    """
    if len(cells) > _MOST_SAMPLED_COLUMNS:
        return []
    sides = []
    for source, old in ((before, True), (after, False)):
        keys = ", ".join((p.old_value if old else p.new_value)("t") for p in key)
        wanted = ", ".join(f"hash({p.hashed('t', old=old)})" for p in cells)
        rows = engine.rows(f"SELECT [{wanted}]::UBIGINT[], {keys} FROM {source.relation} t LIMIT {_SAMPLE}")
        sides.append({row[1:]: row[0] for row in rows})
    counts = [0] * len(cells)
    for named, old_cells in sides[0].items():
        new_cells = sides[1].get(named)
        if new_cells is not None and new_cells != old_cells:
            for n, (was, now) in enumerate(zip(old_cells, new_cells, strict=True)):
                counts[n] += was != now
    return sorted((n for n, count in enumerate(counts) if count), key=lambda n: -counts[n])


def can_align(before: Source, after: Source, key: Sequence[Pair]) -> bool:
    """True for one key of whole numbers in tables that are worth it."""
    if min(before.row_count, after.row_count) < WORTH_ALIGNING or len(key) != 1 or before.left_out or after.left_out:
        return False
    return key[0].before.engine_type in INTEGERS and key[0].after.engine_type in INTEGERS


def by_alignment(
    engine: Engine, before: Source, after: Source, key: Pair, cells: Sequence[Pair], expected: Sequence[int]
) -> Differing | None:
    """``expected``: cells worth a hash of their own, because rows probably differ there and nowhere else.

    None where memory is short; raises ``NoKeyError``.
    """
    span = _span(engine, (before, key.old_value("t")), (after, key.new_value("t")))
    room = engine.memory_bytes * _SHARE_OF_MEMORY / max(1, before.row_count) - span.bytes_for_a_key(before.row_count)
    most_hashes = int(room // 8)
    if most_hashes < 1:
        return None
    expected = list(expected[: min(_MOST_EXPECTED, most_hashes - 1)])
    rest = [n for n in range(len(cells)) if n not in expected]
    groups = [[n] for n in expected] + ([rest] if rest else [])
    hashed = [[", ".join(cells[n].hashed("t", old=old) for n in group) for group in groups] for old in (True, False)]
    held = _Held(span, before.row_count, len(groups))
    held.take_in(_batches(engine, before, key.old_value("t"), hashed[0], span))
    found = held.passed(_batches(engine, after, key.new_value("t"), hashed[1], span))
    suspects = [n for group, is_so in zip(groups, found.differs, strict=True) if is_so.any() for n in group]
    seen = [n for n in expected if n in suspects]
    table = _as_table(engine, found, {n: found.differs[expected.index(n)] for n in seen})
    return Differing(table, found.matched, sorted(suspects), seen, is_checked=True)


@dataclass(frozen=True)
class _Span:
    """Least and greatest key of both tables."""

    low: int
    high: int
    is_dense: bool

    @property
    def key_type(self) -> np.dtype[np.unsignedinteger]:
        """What holds a key less the least one."""
        return np.dtype(np.uint32 if self.high - self.low < 1 << 32 else np.uint64)

    def bytes_for_a_key(self, rows: int) -> float:
        """Memory per row of the older table: its key, and its share of the array or of the sorted order."""
        places = 4 * (self.high - self.low + 1) / max(1, rows) if self.is_dense else 16
        return self.key_type.itemsize + places + 1


def _span(engine: Engine, *sides: tuple[Source, str]) -> _Span:
    ends = [engine.row(f"SELECT min({key}), max({key}) FROM {source.relation} t") for source, key in sides]
    if any(end is None for pair in ends for end in pair):
        raise NoKeyError("empty in some rows")
    low, high = min(int(e[0]) for e in ends), max(int(e[1]) for e in ends)
    return _Span(low, high, high - low <= _SPREAD * sum(source.row_count for source, _ in sides))


_Batch = tuple[np.ndarray, list[np.ndarray]]


def _batches(engine: Engine, source: Source, key: str, hashed: Sequence[str], span: _Span) -> Iterator[_Batch]:
    """The key of each row, less the least one, and its hashes, row after row.

    The engine keeps the order of rows in queries like this one (its setting ``preserve_insertion_order``).
    """
    wanted = ", ".join([f"CAST({key} AS BIGINT)", *(f"hash({cells})" for cells in hashed)])
    for batch in engine.batches(f"SELECT {wanted} FROM {source.relation} t"):
        keys, *hashes = batch.columns
        if keys.null_count:
            raise NoKeyError("empty in some rows")
        near = np.empty(len(keys), span.key_type)
        np.subtract(keys.to_numpy(), span.low, out=near, casting="unsafe")
        yield near, [held.to_numpy() for held in hashes]


@dataclass
class _Found:
    """Places of rows: matched ones that differ on either side, old ones without a partner, new ones without.

    ``differs``: for each hash, in which of the rows that differ it does.
    """

    old: np.ndarray
    new: np.ndarray
    gone: np.ndarray
    come: np.ndarray
    matched: int
    differs: list[np.ndarray]


class _Held:
    """The older table, held as keys and hashes, past which the newer one goes."""

    def __init__(self, span: _Span, row_count: int, hash_count: int) -> None:
        self._keys = np.empty(row_count, span.key_type)
        self._hashes = [np.empty(row_count, np.uint64) for _ in range(hash_count)]
        self._is_left = np.ones(row_count, bool)
        self._places = np.full(span.high - span.low + 1, -1, np.int32) if span.is_dense else None
        self._order: np.ndarray | None = None

    def take_in(self, batches: Iterable[_Batch]) -> None:
        """Hold the older table; raises ``NoKeyError`` if a key comes twice."""
        start, last, is_sorted = 0, -1, True
        for keys, hashes in batches:
            end = start + len(keys)
            self._keys[start:end] = keys
            for held, some in zip(self._hashes, hashes, strict=True):
                held[start:end] = some
            if self._places is not None:
                self._places[keys] = np.arange(start, end, dtype=np.int32)
            is_sorted = is_sorted and int(keys[0]) > last and bool(np.all(keys[1:] > keys[:-1]))
            start, last = end, int(keys[-1])
        if not is_sorted:
            self._sort()

    def _sort(self) -> None:
        if self._places is not None:
            # Who was overwritten has a key that comes again.
            if not np.array_equal(self._places[self._keys], np.arange(len(self._keys), dtype=np.int32)):
                raise NoKeyError("not unique")
            return
        self._order = np.argsort(self._keys)
        self._keys = self._keys[self._order]
        if not np.all(self._keys[1:] > self._keys[:-1]):
            raise NoKeyError("not unique")

    def _partners(self, keys: np.ndarray) -> np.ndarray:
        """For each key the place of the equal old one, or -1."""
        if self._places is not None:
            places: np.ndarray = self._places[keys]
            return places
        found = np.searchsorted(self._keys, keys)
        found[found == len(self._keys)] = 0
        is_there = self._keys[found] == keys
        return np.where(is_there, found if self._order is None else self._order[found], -1)

    def passed(self, batches: Iterable[_Batch]) -> _Found:
        """What differs; raises ``NoKeyError`` if a new key comes twice."""
        old_rows, new_rows, come, come_keys = [], [], [], []
        differs: list[list[np.ndarray]] = [[] for _ in self._hashes]
        start = matched = 0
        for keys, hashes in batches:
            partners = self._partners(keys)
            alone = np.flatnonzero(partners < 0)
            come.append(alone + start)
            come_keys.append(keys[alone])
            matched += len(keys) - len(alone)
            each = [was[partners] != now for was, now in zip(self._hashes, hashes, strict=True)]
            different = np.logical_or.reduce(each) if each else np.zeros(len(keys), bool)
            different[alone] = False
            places = np.flatnonzero(different)
            for told, is_so in zip(differs, each, strict=True):
                told.append(is_so[places])
            self._is_left[partners if not len(alone) else partners[partners >= 0]] = False
            old_rows.append(partners[places])
            new_rows.append(places + start)
            start += len(keys)
        gone, new_keys = np.flatnonzero(self._is_left), np.concatenate(come_keys)
        if len(gone) != len(self._keys) - matched or len(np.unique(new_keys)) != len(new_keys):
            raise NoKeyError("not unique")
        whole = np.concatenate
        return _Found(whole(old_rows), whole(new_rows), gone, whole(come), matched, [whole(d) for d in differs])


def _as_table(engine: Engine, found: _Found, seen: dict[int, np.ndarray]) -> str:
    old, new, gone, come = (pa.array(r.astype(np.int64) + 1) for r in (found.old, found.new, found.gone, found.come))
    columns = {
        "ar": pa.chunked_array([old, gone, pa.nulls(len(come), pa.int64())]),
        "br": pa.chunked_array([new, pa.nulls(len(gone), pa.int64()), come]),
    }
    for n, is_so in seen.items():
        columns[f"d{n}"] = pa.array(np.concatenate([is_so, np.zeros(len(gone) + len(come), bool)]))
    given, table = engine.name("given"), engine.name("differing")
    engine.register(given, pa.table(columns))
    engine.run(f"CREATE TEMP TABLE {table} AS SELECT * FROM {given}")
    engine.unregister(given)
    return table
