"""What the values of each column are like, before and after, and how far they shifted.

The measure of shift is the largest distance of the two distributions, between 0 (the same) and 1 (nothing in common):
for numbers and times the Kolmogorov-Smirnov distance, the largest difference of the shares of values up to any point
(Kolmogorov 1933, Smirnov 1948); for others the total variation distance, half the sum of the differences of the values'
shares. Empty cells are left out and counted apart.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

from everyshelf.core.answers.tables import ColumnNumbers, ColumnProfile, ColumnShift, ColumnValues
from everyshelf.core.tables.columns import AT_ONCE, NUMBERS, Column, Source
from everyshelf.core.tables.engine import Engine, literal
from everyshelf.core.tables.expressions import plain_text
from everyshelf.core.tables.matching import Matched
from everyshelf.core.tables.numbers import Numbers, read_numbers
from everyshelf.core.tables.options import TableOptions
from everyshelf.core.tables.profile_parts import Cells, RowsTold, told_by_others

BINS = 24
MOST_PROFILES = 100  # of a wider table the first columns; nobody looks at more at once
_TOGETHER = 12  # columns whose values are counted in one query: each count takes memory of its own
# Of a longer table an even share of about this many rows tells quartiles, spread, bins and most frequent values: by Smirnov's
# bound a share may be off by 0.004. Empty cells, bounds and mean are those of all rows, and how many values there
# are is estimated from all (HyperLogLog, Flajolet et al. 2007).
PROFILE_ROWS = 100_000
# Two samples of one distribution differ by more than this over the root of their size once in twenty times (Smirnov).
_BY_CHANCE = 1.358
_NEARLY_UNIQUE = 0.5  # a column of different values tells rows apart; how they are spread tells nothing
TOP = 8
_NATIVE_TIMES = frozenset({"DATE", "TIME", "TIMESTAMP", "TIMESTAMP_S", "TIMESTAMP_MS", "TIMESTAMP_NS"})
KOLMOGOROV, VARIATION = "Kolmogorov-Smirnov distance", "total variation distance"


@dataclass
class Side:
    """One column on one side. ``numbers``: least, quartiles, greatest, mean and spread (standard deviation), as numbers
    (for dates seconds since 1970). ``top``: most frequent values with their counts. ``sampled``: of how many rows
    quartiles, spread, ``top`` and ``bins`` are, where not of all; ``distinct`` is an estimate then."""

    rows: int
    nulls: int
    distinct: int
    sampled: int | None = None
    numbers: dict[str, float] | None = None
    top: list[tuple[str, int]] = field(default_factory=list)
    bins: list[int] = field(default_factory=list)

    def answer(self) -> ColumnValues:
        """What interfaces get."""
        return ColumnValues(**{**vars(self), "numbers": _numbers_answer(self.numbers) if self.numbers else None})


def _numbers_answer(numbers: dict[str, float]) -> ColumnNumbers:
    mean, spread = (numbers[name] if math.isfinite(numbers[name]) else None for name in ("mean", "spread"))
    return ColumnNumbers(
        least=numbers["least"],
        lower_quartile=numbers["lower_quartile"],
        median=numbers["median"],
        upper_quartile=numbers["upper_quartile"],
        greatest=numbers["greatest"],
        mean=mean,
        spread=spread,
    )


@dataclass
class Shift:
    """How far a column's values moved, by which measure, and the limit it is held against."""

    column: str
    value: float
    measure: str
    limit: float
    chance: float = 0.0

    @property
    def beyond(self) -> bool:
        """True if the shift is over its limit, and over what chance alone gives in tables of this size."""
        return self.value > max(self.limit, self.chance)

    def answer(self) -> ColumnShift:
        """What interfaces get."""
        return ColumnShift(value=round(self.value, 6), measure=self.measure, limit=self.limit, beyond=self.beyond)


@dataclass
class Profile:
    """A column's values before and after; ``edges`` are the bounds of ``bins`` where values are numbers or times."""

    column: str
    type: str
    is_time: bool
    before: Side | None
    after: Side | None
    edges: list[float] = field(default_factory=list)
    labels: list[str] = field(default_factory=list)
    shift: Shift | None = None

    def answer(self) -> ColumnProfile:
        """What interfaces get."""
        return ColumnProfile(
            column=self.column,
            type=self.type,
            is_time=self.is_time,
            before=self.before.answer() if self.before else None,
            after=self.after.answer() if self.after else None,
            edges=self.edges,
            labels=self.labels,
            shift=self.shift.answer() if self.shift is not None else None,
        )


def profile_tables(
    engine: Engine, before: Source, after: Source, columns: Matched, options: TableOptions, key: Sequence[str] = ()
) -> list[Profile]:
    """Of all columns, in the order of the newer table; removed ones last. Of long tables whose rows have a ``key``
    (names in the newer table), the same rows are looked at on both sides."""
    partners = {pair.new_place: pair.old_place for pair in columns.pairs}
    paired = set(partners.values())
    lanes = [_Lane(partners.get(i), i) for i in range(len(after.columns))]
    lanes += [_Lane(i, None) for i in range(len(before.columns)) if i not in paired]
    named = [(pair.old_place, pair.new_place) for pair in columns.pairs if pair.name in key]
    return _Profiling(engine, before, after, lanes, options, named).all()


def profile_table(engine: Engine, source: Source) -> list[Profile]:
    """Of one table alone."""
    lanes = [_Lane(None, i) for i in range(len(source.columns))]
    return _Profiling(engine, None, source, lanes, TableOptions()).all()


@dataclass(frozen=True)
class _Lane:
    """One column of the profile: its place before and after (None: not there)."""

    old: int | None
    new: int | None


class _Profiling:
    """All columns at once: a few queries over cells in long form, whatever the number of columns."""

    def __init__(
        self,
        engine: Engine,
        before: Source | None,
        after: Source,
        lanes: list[_Lane],
        options: TableOptions,
        key: Sequence[tuple[int, int]] = (),
    ) -> None:
        self._engine, self._lanes, self._options = engine, lanes[:MOST_PROFILES], options
        self._sources = (before, after)
        self._step = max(-(-source.row_count // PROFILE_ROWS) for source in self._sources if source is not None)
        keyed = [
            (source.columns[places[side]]) for side, source in enumerate(self._sources) if source for places in key
        ]
        self._whole_keys = all(c.family == "integer" and c.engine_type != "VARCHAR" for c in keyed)
        shares = [
            None if source is None else self._shared(source, [places[side] for places in key])
            for side, source in enumerate(self._sources)
        ]
        # Of a large table other processes may tell what all its rows say; else they are asked here.
        self._told = [
            told_by_others(source, self._asked(side), shared) if source is not None and shared else None
            for side, (source, shared) in enumerate(zip(self._sources, shares, strict=True))
        ]
        self._sides = tuple(
            [] if source is None else _sides(engine, source, told)
            for source, told in zip(self._sources, self._told, strict=True)
        )
        self._relations = [
            None if source is None else self._share(source, shared or "", told)
            for source, shared, told in zip(self._sources, shares, self._told, strict=True)
        ]
        # By column and side, of the rows that were read:
        self._seen: dict[tuple[int, int], int] = {}  # different values
        self._uncertain: set[tuple[int, int]] = set()  # where they do not tell how many there are in all
        self._numbers: dict[tuple[int, int], Numbers] = {}

    def _shared(self, source: Source, key: list[int]) -> str:
        """SQL that is true for an even share of the rows, by the hash of their key or place; empty for all of few."""
        if self._step <= 1:
            return ""
        name = ", ".join(self._hashable(source.columns[place], f"c{place}") for place in key) or "r"
        return f"hash({name}) % {self._step} = 0"

    def _share(self, source: Source, shared: str, told: RowsTold | None) -> str:
        """The rows that are looked at closely, as a relation."""
        if not shared:
            return source.relation
        share = self._engine.name("share")
        if told is None:
            self._engine.run(f"CREATE TEMP TABLE {share} AS SELECT * FROM {source.relation} WHERE {shared}")
            return share
        given = self._engine.name("given")
        self._engine.register(given, told.share)
        cells = [f"CAST(c{n} AS {column.engine_type}) AS c{n}" for n, column in enumerate(source.columns)]
        self._engine.run(f"CREATE TEMP TABLE {share} AS SELECT {', '.join(['r', *cells])} FROM {given}")
        self._engine.unregister(given)
        return share

    def _asked(self, side: int) -> list[Cells]:
        """What all rows of one side are asked for each of its columns that are told of."""
        asked = []
        for n in range(len(self._lanes)):
            place, source = (self._lanes[n].old, self._lanes[n].new)[side], self._sources[side]
            if place is None or source is None:
                continue
            column, cell = source.columns[place], f"c{place}"
            number = _number(column, cell) if self._looks_numeric(n) else None
            asked.append(Cells(place, _filled(column, cell), number or _value(column, cell), number))
        return asked

    def _looks_numeric(self, n: int) -> bool:
        """True for a column whose type is one of numbers, or of times, on both sides."""
        places = ((self._lanes[n].old, self._sources[0]), (self._lanes[n].new, self._sources[1]))
        columns = [source.columns[place] for place, source in places if source is not None and place is not None]
        return all(_cast(column, "x") is not None for column in columns)

    def _hashable(self, column: Column, cell: str) -> str:
        """A key's cell in a form that is the same on both sides; whole numbers need no text."""
        return f"{cell}::HUGEINT" if self._whole_keys and column.family == "integer" else plain_text(column, cell)

    def all(self) -> list[Profile]:
        try:
            return self._all()
        finally:
            for source, relation in zip(self._sources, self._relations, strict=True):
                if source is not None and relation is not None and relation != source.relation:
                    self._engine.run(f"DROP TABLE {relation}")

    def _all(self) -> list[Profile]:
        profiles = [self._profile(lane) for lane in self._lanes]
        for start in range(0, len(profiles), _TOGETHER):
            places = range(start, min(start + _TOGETHER, len(profiles)))
            numeric = [n for n in places if self._looks_numeric(n)]
            self._read_numbers(numeric)
            others = [n for n in places if n not in set(numeric)]
            cells = self._cells(others)
            self._count(others, cells)
            for side, source in enumerate(self._sources):
                if source is not None and self._relations[side] != source.relation:
                    self._of_all_rows(side, source, places, set(numeric))
            numeric = [n for n in numeric if self._is_numeric(n)]
            self._tops(profiles, cells)
            self._bins(profiles, numeric)
            self._labels(profiles, others, cells)
            self._shifts(profiles, numeric, cells)
            self._engine.run(f"DROP TABLE {cells}")
            self._numbers.clear()
        return profiles

    def _at(self, n: int, side: int) -> tuple[Column, int, Side] | None:
        place = (self._lanes[n].old, self._lanes[n].new)[side]
        source = self._sources[side]
        if place is None or source is None:
            return None
        return source.columns[place], place, self._sides[side][place]

    def _both(self, n: int) -> list[tuple[Column, int, Side]]:
        return [found for side in (0, 1) if (found := self._at(n, side)) is not None]

    def _is_numeric(self, n: int) -> bool:
        """True if there is a number on one side, and none but numbers on either."""
        sides = [side for _, _, side in self._both(n) if side.rows > side.nulls]
        return bool(sides) and all(side.numbers is not None for side in sides)

    def _comparable(self, n: int) -> bool:
        """True if both sides hold values of one kind: what was a number and is a date did not shift."""
        families = {column.family for column, _, _ in self._both(n)}
        return len(families) == 1 or families <= set(NUMBERS)

    def _read_numbers(self, places: list[int]) -> None:
        """Read the values of numeric columns on both sides."""
        for side, relation in enumerate(self._relations):
            there = [(n, *found) for n in places if (found := self._at(n, side)) is not None]
            if relation is None or not there:
                continue
            wanted = [
                (str(_number(c, f"c{place}")), f"{_filled(c, f'c{place}')} IS NOT NULL") for _, c, place, _ in there
            ]
            for (n, _, _, told), numbers in zip(there, read_numbers(self._engine, relation, wanted), strict=True):
                self._numbers[n, side] = numbers
                told.numbers = numbers.summary()
                self._note(n, side, told, numbers.distinct, numbers.filled, numbers.singles)

    def _count(self, places: list[int], cells: str) -> None:
        """Different values of the other columns."""
        found = {n: {side: told for side in (0, 1) if (at := self._at(n, side)) and (told := at[2])} for n in places}
        for n, side, distinct, filled, singles in self._engine.rows(
            f"SELECT n, side, count(*), sum(k)::BIGINT, count(*) FILTER (WHERE k = 1) FROM {cells} GROUP BY n, side"
        ):
            self._note(n, side, found[n][side], distinct, filled, singles)

    def _note(self, n: int, side: int, told: Side, distinct: int, filled: int, singles: int) -> None:
        # Of a share, values that are all different stand for a column where all are, and values of which each came
        # several times for all that there are (Good, Biometrika 40, 1953); between these all rows have to be asked.
        rows = told.rows - told.nulls
        told.distinct = rows if distinct == filled else distinct
        self._seen[n, side] = distinct
        if distinct != filled and singles:
            self._uncertain.add((n, side))

    def _of_all_rows(self, side: int, source: Source, places: range, numeric: set[int]) -> None:
        """Of a table whose share was read: what one pass over all its rows tells."""
        read = int(self._engine.row(f"SELECT count(*) FROM {self._relations[side]}")[0])
        there = [(n, *found) for n in places if (found := self._at(n, side)) is not None]
        if (all_rows := self._told[side]) is not None:
            for n, _, place, told in there:
                of_column = all_rows.columns[place]
                self._take_in(told, read, of_column.distinct if (n, side) in self._uncertain else None)
                if told.numbers is not None and of_column.ends is not None:
                    least, greatest, total, count = of_column.ends
                    told.numbers.update(least=least, greatest=greatest, mean=total / count)
            return
        # In steps, so that a text is read as a number once and not for each question about it.
        cast, finite, wanted = ["1"], ["1"], []
        for n, column, place, _ in there:
            number = _cast(column, f"c{place}") if n in numeric else None
            cast.append(f"{number or _value(column, f'c{place}')} AS y{n}")
            finite.append(f"CASE WHEN isfinite(y{n}) THEN y{n} END AS x{n}" if number else f"y{n} AS x{n}")
            wanted.append(f"approx_count_distinct(x{n})" if (n, side) in self._uncertain else "NULL")
            wanted.append(f"[min(x{n}), max(x{n}), avg(x{n})]" if number else "NULL")
        rows = f"(SELECT {', '.join(finite)} FROM (SELECT {', '.join(cast)} FROM {source.relation}))"
        values: Iterator[Any] = iter(self._engine.row(f"SELECT {', '.join(wanted)} FROM {rows}") if wanted else ())
        for _, _, _, told in there:
            distinct, ends = next(values), next(values)
            self._take_in(told, read, distinct)
            if told.numbers is not None and ends is not None:
                told.numbers.update(zip(("least", "greatest", "mean"), map(float, ends), strict=True))

    @staticmethod
    def _take_in(told: Side, read: int, distinct: int | None) -> None:
        told.sampled = read
        if distinct is not None:
            told.distinct = min(int(distinct), told.rows - told.nulls)

    def _profile(self, lane: _Lane) -> Profile:
        n = self._lanes.index(lane)
        old, new = self._at(n, 0), self._at(n, 1)
        column = (new or old)[0]  # type: ignore[index]
        is_time = column.family in ("date", "timestamp", "time")
        return Profile(column.name, column.told_type, is_time, old[2] if old else None, new[2] if new else None)

    def _cells(self, places: list[int]) -> str:
        """The different values of columns that hold no numbers, with their counts on each side: ``n``, ``side``, ``v``."""
        pieces = ["SELECT 0 AS n, 0 AS side, ''::VARCHAR AS v, 0::BIGINT AS k WHERE false"]
        for n in places:
            for side in (0, 1):
                found = self._at(n, side)
                if found is None:
                    continue
                column, place, _ = found
                value = _value(column, f"c{place}")
                pieces.append(
                    f"SELECT {n} AS n, {side} AS side, left({value}, 80) AS v, count(*) AS k "
                    f"FROM {self._relations[side]} WHERE {value} IS NOT NULL GROUP BY v"
                )
        cells = self._engine.name("cells")
        self._engine.run(f"CREATE TEMP TABLE {cells} AS {' UNION ALL '.join(pieces)}")
        return cells

    def _tops(self, profiles: list[Profile], cells: str) -> None:
        for n, side, value, count in self._engine.rows(
            f"SELECT n, side, v, k FROM (SELECT *, row_number() OVER (PARTITION BY n, side ORDER BY k DESC, v) AS place "
            f"FROM {cells} WHERE v IS NOT NULL) WHERE place <= {TOP} ORDER BY n, side, place"
        ):
            found = (profiles[n].before, profiles[n].after)[side]
            assert found is not None
            found.top.append((value, count))

    def _bins(self, profiles: list[Profile], numeric: list[int]) -> None:
        for n in numeric:
            numbers = [side.numbers for _, _, side in self._both(n) if side.numbers is not None]
            low, high = min(m["least"] for m in numbers), max(m["greatest"] for m in numbers)
            width = (high - low) / BINS
            if not 0 < width < float("inf"):
                width = 1.0
            profiles[n].edges = [low + width * i for i in range(BINS + 1)]
            for side in (0, 1):
                found = self._at(n, side)
                if found is not None:
                    found[2].bins = self._numbers[n, side].binned(low, width, BINS)

    def _labels(self, profiles: list[Profile], places: list[int], cells: str) -> None:
        wanted: list[tuple[int, str]] = []
        for n in places:
            sides = [side for _, _, side in reversed(self._both(n))]
            profiles[n].labels = list(dict.fromkeys(text for side in sides for text, _ in side.top))[: 2 * TOP]
            wanted += [(n, text) for text in profiles[n].labels]
            for side in sides:
                side.bins = [0] * len(profiles[n].labels)
        if not wanted:
            return
        values = ", ".join(f"({n}, {literal(text)})" for n, text in wanted)
        for n, side, text, count in self._engine.rows(
            f"SELECT n, side, v, sum(k)::BIGINT FROM {cells} JOIN (VALUES {values}) AS t(n, v) USING (n, v) GROUP BY 1, 2, 3"
        ):
            found = (profiles[n].before, profiles[n].after)[side]
            assert found is not None
            found.bins[profiles[n].labels.index(text)] = count

    def _shifts(self, profiles: list[Profile], numeric: list[int], cells: str) -> None:
        totals = f"SELECT n, sum(k) FILTER (side = 0) AS o, sum(k) FILTER (side = 1) AS w FROM {cells} GROUP BY n"
        sums = "coalesce(sum(k) FILTER (side = 0), 0) AS o, coalesce(sum(k) FILTER (side = 1), 0) AS w"
        texts = f"SELECT n, v, {sums} FROM {cells} GROUP BY n, v"
        distances = self._engine.rows(
            f"WITH t AS ({totals}), h AS ({texts}) SELECT n, sum(abs(h.o / t.o - h.w / t.w)) / 2 FROM h JOIN t USING (n) "
            f"WHERE t.o > 0 AND t.w > 0 GROUP BY n"
        )
        for n in numeric:
            old, new = self._numbers.get((n, 0)), self._numbers.get((n, 1))
            if old is not None and new is not None and old.filled and new.filled:
                distances.append((n, old.distance(new)))
        for n, value in distances:
            before, after = profiles[n].before, profiles[n].after
            if before is None or after is None or not self._comparable(n):
                continue
            counts = [(side.rows - side.nulls) * (side.sampled or side.rows) / side.rows for side in (before, after)]
            chance = _BY_CHANCE * (1 / counts[0] + 1 / counts[1]) ** 0.5
            distinct = max(self._seen.get((n, side), 0) for side in (0, 1))
            limit = self._options.shift_limit(profiles[n].column)
            if n in numeric:
                profiles[n].shift = Shift(profiles[n].column, float(value), KOLMOGOROV, limit, chance)
            elif distinct <= _NEARLY_UNIQUE * max(counts):
                chance *= distinct**0.5 / 2
                profiles[n].shift = Shift(profiles[n].column, float(value), VARIATION, limit, chance)


def _sides(engine: Engine, source: Source, told: RowsTold | None) -> list[Side]:
    """Rows and empty cells of each column, exactly; the rest comes from its different values."""
    if told is not None:
        counts = {place: one.filled for place, one in told.columns.items()}
        return [Side(source.row_count, source.row_count - counts.get(n, 0), 0) for n in range(len(source.columns))]
    filled: list[int] = []
    for start in range(0, len(source.columns), AT_ONCE):
        places = range(start, min(start + AT_ONCE, len(source.columns)))
        wanted = ", ".join(f"count({_filled(source.columns[p], f'c{p}')})" for p in places)
        filled += engine.row(f"SELECT {wanted} FROM {source.relation}")
    return [Side(source.row_count, source.row_count - count, 0) for count in filled]


def _value(column: Column, cell: str) -> str:
    """The value as a text; empty texts count as none."""
    text = plain_text(column, cell)
    return f"nullif({text}, '')" if column.engine_type == "VARCHAR" else text


def _filled(column: Column, cell: str) -> str:
    """SQL that is null where the cell is empty: an empty text counts as none."""
    return f"nullif({cell}, '')" if column.engine_type == "VARCHAR" else cell


def _number(column: Column, cell: str) -> str | None:
    """The value as a finite number (times: seconds), or None where the column holds neither."""
    number = _cast(column, cell)
    return f"CASE WHEN isfinite({number}) THEN {number} END" if number and column.family in NUMBERS else number


def _cast(column: Column, cell: str) -> str | None:
    """As ``_number``, including infinite values."""
    if column.family in NUMBERS:
        if column.engine_type == "VARCHAR":
            return f"TRY_CAST({plain_text(column, cell)} AS DOUBLE)"
        return f"CAST({cell} AS DOUBLE)"
    if column.engine_type in _NATIVE_TIMES:
        return f"epoch({cell})"
    if column.family in ("date", "timestamp"):
        # As it is written, where that is year-month-day: bringing a million of them to one form takes longer than this.
        as_written = column.engine_type == "VARCHAR" and not column.spelling
        return f"epoch(TRY_CAST({cell if as_written else plain_text(column, cell)} AS TIMESTAMP))"
    if column.family == "time":
        return f"epoch(TRY_CAST({plain_text(column, cell)} AS TIME))"
    return None
