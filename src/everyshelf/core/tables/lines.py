"""Two delimited texts of one form: lines that are in both are known to be equal rows, and only the others are taken apart.

This holds where no cell contains a line break, which is seen by the quotes of each line. Lines are compared by 64-bit
hashes.
"""

from __future__ import annotations

import mmap
from collections.abc import Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path

import numpy as np
import pyarrow as pa

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.tables import Table
from everyshelf.core.tables.columns import MOST_COLUMNS, Column, Source
from everyshelf.core.tables.delimited import SMALL_BYTES, as_utf8, head_of, into_table, open_delimited, source_layout
from everyshelf.core.tables.engine import Engine, literal
from everyshelf.core.tables.given import Given
from everyshelf.core.tables.hashes import is_unique, places_of, surplus, twice_in
from everyshelf.core.tables.spelling import found_types

_MOST_DIFFERENT = 0.25  # of the lines: beyond, both are read whole at once
_BYTES_A_LINE = 40  # held of each line: its hash, sorted, and where it stands
_STRETCHES, _SAMPLE_LINES = 64, 20_000
_HEAD_LINES = 1_000
# Quotes of a line: none, an even number, or an odd one, after which a cell goes on in the next line.
_ODD = 2
_QUOTES = """CASE WHEN contains(l, '"') THEN 1 + (length(l) - length(replace(l, '"', ''))) % 2 ELSE 0 END"""
_NOWHERE = "\x01"  # stands in no text


def open_by_lines(engine: Engine, before: Given, after: Given, key: Sequence[str] = ()) -> tuple[Source, Source] | None:
    """Both tables without the rows both have; None where that cannot be told by lines, or is not worth it.

    ``key``: the columns that will be asked about first, if anybody knows.
    """
    if min(before.size, after.size) <= SMALL_BYTES or before.files or after.files:
        return None
    try:
        heads = [head_of(given) for given in (before, after)]
        if not _are_alike(*heads):
            return None
        texts = [_Text(engine, given, head) for given, head in zip((before, after), heads, strict=True)]
        columns = heads[0].columns
        places = [columns.index(name) for name in key] if all(name in columns for name in key) else []
        return _Pair(engine, texts[0], texts[1]).sources(places)
    except UnreadableError:
        return None


def _are_alike(one: Table, other: Table) -> bool:
    same_form = one.dialect["delimiter"] == other.dialect["delimiter"] and one.header == other.header
    return same_form and one.columns == other.columns and 1 < len(one.columns) <= MOST_COLUMNS


class _Text:
    """One file as lines."""

    def __init__(self, engine: Engine, given: Given, head: Table) -> None:
        self.given, self.head = given, head
        self.path = as_utf8(engine, given, head)
        self.has_quotes = False
        self.lengths = np.empty(0, np.uint32)
        self.twice: dict[tuple[int, ...], np.ndarray] = {}  # for places of cells: hashes of them that come again
        self.relation = f"(SELECT l FROM {_lines(self.path, head.lines_before)} WHERE l <> '')"

    def lines_at(self, places: np.ndarray) -> list[bytes] | None:
        """The lines at these places (ascending); None where they do not lie in the file as their lengths say."""
        size = self.path.stat().st_size
        with self.path.open("rb") as file, mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as data:
            data.madvise(mmap.MADV_SEQUENTIAL)
            start = 0
            for _ in range(self.head.lines_before):
                start = data.find(b"\n", start) + 1
            end = 2 if data[start - 2 : start] == b"\r\n" else 1
            offsets = np.cumsum(self.lengths + end, dtype=np.int64)
            # Without blank lines or ends of another kind it comes out even; the last line may have no end.
            if start + int(offsets[-1]) not in (size, size + end):
                return None
            starts = start + offsets[places] - self.lengths[places] - end
            lengths = self.lengths[places]
            return [data[at : at + length] for at, length in zip(starts.tolist(), lengths.tolist(), strict=True)]

    @property
    def line_count(self) -> int:
        """About as many lines as are in it."""
        longest = self.head.rows[:_HEAD_LINES]
        width = sum(len(cell) + 1 for row in longest for cell in row) / max(1, len(longest))
        return int(self.given.size / max(1.0, width))


def _lines(path: Path, skip: int = 0) -> str:
    return (
        f"read_csv([{literal(str(path))}], columns={{'l': 'VARCHAR'}}, delim='{_NOWHERE}', quote='', escape='', "
        f"header=false, skip={skip}, auto_detect=false, force_not_null=['l'], max_line_size={8 << 20}, hive_partitioning=false)"
    )


class _Pair:
    def __init__(self, engine: Engine, old: _Text, new: _Text) -> None:
        self._engine, self._texts = engine, (old, new)

    def sources(self, key: list[int]) -> tuple[Source, Source] | None:
        """See ``open_by_lines``; ``key``: places of the likely key."""
        read = [self._read(text, key) for text in self._texts]
        if any(side is None for side in read):
            return None
        hashes = [side for side in read if side is not None]
        different = surplus(*hashes)
        with ThreadPoolExecutor(2) as both:
            places = list(both.map(places_of, hashes, [different] * 2))
        if any(len(p) > _MOST_DIFFERENT * len(h) for p, h in zip(places, hashes, strict=True)):
            return None
        counts = [len(side) for side in hashes]
        del hashes, read
        return self._opened(counts, places)

    def _read(self, text: _Text, key: list[int]) -> np.ndarray | None:
        """A hash of every line; None where lines are not rows, or too many."""
        if text.line_count * _BYTES_A_LINE > self._engine.memory_bytes:
            return None
        delimiter = text.head.dialect["delimiter"]
        wanted = [
            f"({_QUOTES})::UTINYINT",
            "hash(l)",
            "strlen(l)::UINTEGER",
            *([f"hash({', '.join(_cell(place, delimiter) for place in key)})"] if key else []),
        ]
        pieces: list[list[np.ndarray]] = []
        for batch in self._engine.batches(f"SELECT {', '.join(wanted)} FROM {text.relation}"):
            quotes, *columns = [column.to_numpy() for column in batch.columns]
            text.has_quotes = text.has_quotes or bool(quotes.any())
            if (quotes == _ODD).any():
                return None
            pieces.append(columns)
        if not pieces:
            return None
        hashes, text.lengths, *keys = (np.concatenate(column) for column in zip(*pieces, strict=True))
        del pieces
        if keys and not text.has_quotes:
            text.twice[tuple(key)] = twice_in(keys[0])
        return hashes

    def _opened(self, counts: Sequence[int], places: Sequence[np.ndarray]) -> tuple[Source, Source] | None:
        engine = self._engine
        taken = [self._taken(text, place) for text, place in zip(self._texts, places, strict=True)]
        sample = self._sample(places[0])
        if any(relation is None for relation in taken):
            return None
        sources = []
        for text, relation, count in zip(self._texts, taken, counts, strict=True):
            assert relation is not None
            columns = self._columns(text.head, sample, relation)
            sources.append(Source(relation, columns, count, source_layout(text.head), text.head.preamble))
        shared = _Shared(engine, sources[0], self._texts[0].given)
        for source, text, place in zip(sources, self._texts, places, strict=True):
            source.rest = _Rest(source.row_count - len(place), sample, engine, text, source, shared)
        return sources[0], sources[1]

    def _taken(self, text: _Text, places: np.ndarray) -> str | None:
        """The chosen lines as a table with the numbers of their rows; None if they do not hold one row each."""
        lines = text.lines_at(places)
        if lines is None:
            return None
        bare = self._parsed(text.head, lines)
        rows = self._engine.row(f"SELECT count(*) FROM {bare}")[0]
        if rows != len(places):
            return None
        numbers, relation = self._engine.name("numbers"), self._engine.name("lines")
        self._engine.register(numbers, pa.table({"i": np.arange(1, rows + 1), "n": places.astype(np.int64) + 1}))
        cells = ", ".join(f"c{i}" for i in range(len(text.head.columns)))
        self._engine.run(
            f"CREATE TEMP TABLE {relation} AS SELECT n AS r, {cells} FROM {bare} JOIN {numbers} ON r = i ORDER BY n"
        )
        self._engine.unregister(numbers)
        self._engine.run(f"DROP TABLE {bare}")
        return relation

    def _parsed(self, head: Table, lines: Iterable[bytes]) -> str:
        """Lines, written out and read as the table they are."""
        path, relation = self._engine.folder / f"{self._engine.name('lines')}.txt", self._engine.name("lines")
        with path.open("wb") as file:
            file.writelines(line + b"\n" for line in lines)
        into_table(self._engine, relation, path, replace(head, header=False, preamble=[]), skip=0)
        path.unlink()
        return relation

    def _sample(self, different: np.ndarray) -> str:
        """Whole stretches of the older file, without lines that differ: rows of both."""
        text = self._texts[0]
        count = len(text.lengths)
        chosen = np.arange(count)
        if count > _SAMPLE_LINES:
            starts = np.arange(_STRETCHES) * (count // _STRETCHES)
            chosen = (starts[:, None] + np.arange(_SAMPLE_LINES // _STRETCHES)).ravel()
        lines = text.lines_at(np.setdiff1d(chosen, different))
        return self._parsed(text.head, lines or [])

    def _columns(self, head: Table, sample: str, different: str) -> list[Column]:
        seen = self._engine.name("seen")
        self._engine.run(f"CREATE TEMP VIEW {seen} AS FROM {sample} UNION ALL FROM {different}")
        count = self._engine.row(f"SELECT count(*) FROM {seen}")[0]
        types = found_types(self._engine, seen, list(range(len(head.columns))), count)
        self._engine.run(f"DROP VIEW {seen}")
        return [Column(name, "VARCHAR", *types[i]) for i, name in enumerate(head.columns)]


@dataclass
class _Shared:
    """The older table with all its rows, read once it is asked for."""

    engine: Engine
    older: Source
    given: Given

    @cached_property
    def whole(self) -> Source:
        return replace(self.older, relation=open_delimited(self.engine, self.given).relation, rest=None)


@dataclass
class _Rest:
    """See ``columns.Rest``."""

    count: int
    sample: str
    engine: Engine
    text: _Text
    source: Source
    shared: _Shared

    def is_key(self, places: Sequence[int]) -> bool:
        """True if these columns tell every row of the file from every other."""
        if self.text.has_quotes:
            return is_unique(self.engine, self.whole().relation, [f"c{place}" for place in places])
        delimiter = self.text.head.dialect["delimiter"]
        cells = [_cell(place, delimiter) for place in places]
        return is_unique(self.engine, self.text.relation, cells, self.text.twice.get(tuple(places)))

    def whole(self) -> Source:
        """All rows: those of the older table that are in both, and this side's own."""
        older = self.shared.whole
        if self.source is self.shared.older:
            return older
        relation = self.engine.name("whole")
        self.engine.run(
            f"CREATE TEMP VIEW {relation} AS SELECT t.* FROM {older.relation} t "
            f"ANTI JOIN {self.shared.older.relation} d ON t.r = d.r UNION ALL SELECT * FROM {self.source.relation}"
        )
        return replace(self.source, relation=relation, rest=None)


def _cell(place: int, delimiter: str) -> str:
    """SQL for one cell of a line without quotes."""
    if not place:
        return f"left(l, instr(l || {literal(delimiter)}, {literal(delimiter)}) - 1)"
    other = f"[^{delimiter}]*" if delimiter != "\t" else r"[^\t]*"
    mark = {"|": r"\|", "\t": r"\t"}.get(delimiter, delimiter)
    return f"regexp_extract(l, {literal(f'^(?:{other}{mark}){{{place}}}({other})')}, 1)"
