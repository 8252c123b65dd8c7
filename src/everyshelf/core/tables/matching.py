"""Which columns of two tables are the same, and which of them may be the key."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import Any

from everyshelf.core.outline.identities import is_id_like
from everyshelf.core.tables.columns import Column, Source, change_of_type
from everyshelf.core.tables.engine import Engine
from everyshelf.core.tables.expressions import Pair

_RENAME_SHARE = 0.9
_RENAME_COLUMNS = 60
_SAMPLE_ROWS = 20_000
_KEY_COLUMNS = 12
_MOST_CANDIDATES = 6
_NO_KEYS = ("decimal", "nested", "bytes", "boolean", "empty")
_OVERLAP = 0.8  # a column with less of the best one's overlap comes behind it
_SIGNS = 64  # smallest hashes kept of a column's values, to see which columns may be alike


@dataclass
class Matched:
    """Columns found on both sides (``pairs``), and those only on one; names as in the tables."""

    pairs: list[Pair] = field(default_factory=list)
    added: list[Column] = field(default_factory=list)
    removed: list[Column] = field(default_factory=list)
    renamed: list[tuple[str, str]] = field(default_factory=list)
    retyped: dict[str, tuple[str, Column, Column]] = field(default_factory=dict)
    reordered: bool = False


def match_columns(engine: Engine, before: Source, after: Source, ignored: set[str]) -> Matched:
    """Columns by name; those whose name went by their values."""
    result = Matched()
    old = {c.name: i for i, c in enumerate(before.columns) if c.name not in ignored}
    new = {c.name: i for i, c in enumerate(after.columns) if c.name not in ignored}
    gone, come = [n for n in old if n not in new], [n for n in new if n not in old]
    result.renamed = _renamed(engine, before, after, [old[n] for n in gone], [new[n] for n in come])
    now = dict(result.renamed)
    was = {b: a for a, b in result.renamed}
    result.removed = [before.columns[old[n]] for n in gone if n not in now]
    result.added = [after.columns[new[n]] for n in come if n not in was]
    for name, place in old.items():
        other = now.get(name, name)
        if other in new:
            result.pairs.append(Pair(before.columns[place], place, after.columns[new[other]], new[other]))
    for pair in result.pairs:
        if change := change_of_type(pair.before, pair.after):
            result.retyped[pair.name] = (change, pair.before, pair.after)
    places = [pair.new_place for pair in result.pairs]
    # Records name their cells: the order in which they do so is none of the table.
    result.reordered = places != sorted(places) and before.in_order and after.in_order
    return result


def _renamed(engine: Engine, before: Source, after: Source, gone: list[int], come: list[int]) -> list[tuple[str, str]]:
    """Columns whose name went and whose values came back under another name."""
    gone, come = gone[:_RENAME_COLUMNS], come[:_RENAME_COLUMNS]
    if not gone or not come or not before.row_count or not after.row_count:
        return []
    old, new = _signs(engine, before, gone), _signs(engine, after, come)
    result: list[tuple[str, str]] = []
    only_one = len(gone) == len(come) == 1
    for i in gone:
        best: tuple[float, int, int] | None = None
        for j in come:
            if not _alike(old[i], new[j]) or change_of_type(before.columns[i], after.columns[j]) == "retyped":
                continue
            share, distinct = _shared(engine, before, i, after, j)
            # Two columns of two values each look alike by chance: four different values must agree.
            if share >= _RENAME_SHARE and (distinct >= 4 or only_one) and (best is None or (share, -j) > best[:2]):
                best = (share, -j, j)
        if best is not None:
            result.append((before.columns[i].name, after.columns[best[2]].name))
            come = [j for j in come if j != best[2]]
    return result


def _signs(engine: Engine, source: Source, places: list[int]) -> dict[int, set[int]]:
    wanted = ", ".join(f"min(hash(CAST(c{p} AS VARCHAR)), {_SIGNS})" for p in places)
    step = max(1, source.row_count // 1_000_000)
    where = f"WHERE r % {step} = 0" if step > 1 else ""
    found = engine.row(f"SELECT {wanted} FROM {source.relation} {where}")
    return {place: set(values or []) for place, values in zip(places, found, strict=True)}


def _alike(old: set[int], new: set[int]) -> bool:
    return bool(old & new) or not old or not new


def _shared(engine: Engine, before: Source, i: int, after: Source, j: int) -> tuple[float, int]:
    """Share of values (with repetition) both columns have, and how many different ones."""
    pair = Pair(before.columns[i], i, after.columns[j], j)
    both, distinct = engine.row(
        f"SELECT coalesce(sum(least(x.n, y.n)), 0), count(*) FROM "
        f"(SELECT {pair.old_value('t')} v, count(*) n FROM {before.relation} t GROUP BY 1) x JOIN "
        f"(SELECT {pair.new_value('t')} v, count(*) n FROM {after.relation} t GROUP BY 1) y "
        f"ON x.v IS NOT DISTINCT FROM y.v"
    )
    return float(both) / max(1, min(before.row_count, after.row_count)), int(distinct)


def key_candidates(
    engine: Engine, before: Source, after: Source, pairs: list[Pair], preferred: tuple[str, ...] = ()
) -> Iterator[tuple[Pair, ...]]:
    """Sets of columns that are unique in a sample of both tables, likeliest first: the fewest columns, names that
    look like an identity, the place in the table. No column of measurements."""
    by_name = {p.name: p for p in pairs}
    first = tuple(by_name[name] for name in preferred if name in by_name)
    if first and len(first) == len(preferred):
        yield first
    usable = [p for p in pairs if p.before.family not in _NO_KEYS and p.after.family not in _NO_KEYS]
    usable.sort(key=lambda p: (is_id_like(p.name) is None, is_id_like(p.name) or 0, p.old_place))
    usable = usable[:_KEY_COLUMNS]
    if not usable:
        return
    samples = [_sample(engine, s, usable, old=old) for s, old in ((before, True), (after, False))]
    found: list[set[int]] = []
    singles = [n for n in range(len(usable)) if all(_is_unique([sample[n]]) for sample in samples)]
    if len(singles) > 1:
        # Of several columns that tell rows apart, the one whose values both versions have.
        overlaps = _overlaps(engine, before, after, [usable[n] for n in singles])
        likeliest = sorted(range(len(singles)), key=lambda k: overlaps[k] < _OVERLAP * max(overlaps))
        singles = [singles[k] for k in likeliest]
    for size in (1, 2, 3):
        places: Iterable[tuple[int, ...]] = itertools.combinations(range(len(usable)), size)
        for chosen in [(n,) for n in singles] if size == 1 else places:
            if any(smaller <= set(chosen) for smaller in found):
                continue
            if all(_is_unique([sample[n] for n in chosen]) for sample in samples):
                found.append(set(chosen))
                if {usable[n] for n in chosen} != set(first):
                    yield tuple(usable[n] for n in chosen)
                if len(found) == _MOST_CANDIDATES:
                    return


def _overlaps(engine: Engine, before: Source, after: Source, pairs: list[Pair]) -> list[float]:
    """For each column the share of the older table's values that the newer one has, told by an even share of them."""
    least = min(before.row_count - before.left_out, after.row_count - after.left_out)
    step = max(1, least // _SAMPLE_ROWS)
    found = []
    for pair in pairs:
        sides = [
            f"(SELECT DISTINCT {value} AS v FROM {source.relation} t WHERE hash({value}) % {step} = 0)"
            for source, value in ((before, pair.old_value("t")), (after, pair.new_value("t")))
        ]
        both, old = engine.row(
            f"SELECT count(y.v), count(*) FROM {sides[0]} x LEFT JOIN {sides[1]} y ON x.v = y.v WHERE x.v IS NOT NULL"
        )
        found.append(both / old if old else 0.0)
    return found


def _sample(engine: Engine, source: Source, pairs: list[Pair], *, old: bool) -> list[list[Any]]:
    """Values of the columns in whole stretches of rows: neighbours are where repeated keys show."""
    values = ", ".join((p.old_value if old else p.new_value)("t") for p in pairs)
    step = max(1, source.row_count // _SAMPLE_ROWS) if source.rest is None else 1
    where = f"WHERE r % {step * 1000} < 1000" if step > 1 else ""
    relation = source.relation if source.rest is None else source.rest.sample
    rows = engine.rows(f"SELECT {values} FROM {relation} t {where} LIMIT {_SAMPLE_ROWS}")
    return [list(column) for column in zip(*rows, strict=True)] or [[] for _ in pairs]


def _is_unique(columns: list[list[Any]]) -> bool:
    rows = columns[0] if len(columns) == 1 else list(zip(*columns, strict=True))
    return len(set(rows)) == len(rows) and not any(None in column for column in columns)
