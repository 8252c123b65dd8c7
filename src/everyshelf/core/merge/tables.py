"""Tables merged column by column, row by row and cell by cell.

Columns are matched by name, then by what they hold; rows by a declared key, a key that is unique in all three versions,
or else by content. A record that only one side touched is taken as it is written.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import combinations

from everyshelf.core.compare.pairing import gaps, without
from everyshelf.core.compare.sequence import align
from everyshelf.core.formats.source.tables import RawTable, meaning, raw_table
from everyshelf.core.merge.model import NOTHING, SIDES, Conflict, Decision, Decisions, Merged, Side
from everyshelf.core.merge.order import merged_order
from everyshelf.core.outline.identities import is_id_like

_SAMPLE = 2000
_SAME_COLUMN = 0.6
_MOST_CELLS = 50  # clashes of one column that are told one by one; more are one conflict about the column
_MOST_PAIR_COLUMNS = 6
_NAMES = ("target", "source")

ColumnId = tuple[str, int]


def merge_tables(
    datas: tuple[bytes, bytes, bytes], key: Sequence[str] | None, prefer: Side | None, decisions: Decisions
) -> Merged:
    """The three versions put together; raises ``UnreadableError`` where one cannot be taken apart as a table."""
    return _TableMerge([raw_table(data) for data in datas], key, prefer, decisions).run()


@dataclass
class _Column:
    """One column after the merge: where it stands in base, target and source (None: nowhere), and its header."""

    places: list[int | None]
    header: str


class _TableMerge:
    def __init__(
        self, tables: list[RawTable], key: Sequence[str] | None, prefer: Side | None, decisions: Decisions
    ) -> None:
        self._tables = tables
        self._base, self._target, self._source = tables
        self._prefer, self._decisions = prefer, decisions
        self._conflicts: list[Conflict] = []
        self._notes: list[str] = []
        self._combined = 0
        # Of each side: place in the base -> place there.
        self._maps = [_column_map(self._base, side) for side in tables[1:]]
        self._key = self._find_key(key)

    def run(self) -> Merged:
        """Everything in turn: rows, then columns (whose cells tell whether a removed one was used), then cells."""
        keys = self._row_keys()
        rows = [dict(zip(k, t.records, strict=True)) for k, t in zip(keys, self._tables, strict=True)]
        columns = self._columns(rows)
        order = self._kept_rows(keys, rows)
        records = self._cells(order, rows, columns)
        merged = Merged(None, self._conflicts, self._combined, self._notes, read_as="dataset")
        if not merged.open:
            merged.content = self._written(columns, records)
        return merged

    # --- what is which -----------------------------------------------------------

    def _find_key(self, declared: Sequence[str] | None) -> list[int] | None:
        """Places in the base of the columns that tell rows apart in all three versions."""
        names = self._base.columns
        shared = [n for n in range(len(names)) if all(n in m for m in self._maps)]
        if declared and all(c in names and names.index(c) in shared for c in declared):
            places = [names.index(c) for c in declared]
            return places if self._is_unique(places) else None

        def rank(n: int) -> tuple[int, int]:
            like = is_id_like(names[n])
            return (99 if like is None else like, n)

        ranked = sorted(shared, key=rank)
        for n in ranked:
            if self._is_unique([n]) and (is_id_like(names[n]) is not None or self._overlap([n]) > 0.5):
                return [n]
        for pair in combinations(sorted(ranked[:_MOST_PAIR_COLUMNS]), 2):
            if self._is_unique(list(pair)) and self._overlap(list(pair)) > 0.5:
                return list(pair)
        return None

    def _keys_of(self, which: int, places: list[int]) -> list[tuple[str, ...]]:
        table = self._tables[which]
        there = places if which == 0 else [self._maps[which - 1][n] for n in places]
        split = table.cells
        if len(there) == 1:
            (n,) = there
            return [(meaning(split(record)[n]),) for record in table.records]
        return [tuple(meaning(c[n]) for n in there) for c in map(split, table.records)]

    def _is_unique(self, places: list[int]) -> bool:
        for which in range(3):
            keys = self._keys_of(which, places)
            if len(set(keys)) != len(keys) or any("" in k for k in keys):
                return False
        return True

    def _overlap(self, places: list[int]) -> float:
        base, target, source = (set(self._keys_of(which, places)) for which in range(3))
        least = max(1, min(len(base), len(target), len(source)))
        return len(base & target & source) / least

    def _row_keys(self) -> list[list[object]]:
        if self._key is not None:
            return [list(self._keys_of(which, self._key)) for which in range(3)]
        base: list[object] = [("b", n) for n in range(len(self._base.records))]
        result = [base]
        new: Counter[tuple[int, str]] = Counter()
        for which in (1, 2):
            pairs = _pairs_by_content(self._base, self._tables[which], self._maps[which - 1])
            keys: list[object] = [None] * len(self._tables[which].records)
            for i, j in pairs:
                keys[j] = base[i]
            anchor: object = None
            for j, key in enumerate(keys):
                if key is not None:
                    anchor = key
                    continue
                record = self._tables[which].records[j]
                new[which, record] += 1
                # Equal rows that both sides put at one place are one.
                keys[j] = ("new", anchor, record, new[which, record])
            result.append(keys)
        return result

    # --- columns -----------------------------------------------------------------

    def _columns(self, rows: list[dict[object, str]]) -> list[_Column]:
        ids: list[list[ColumnId]] = [[("b", n) for n in range(len(self._base.columns))]]
        added: dict[str, ColumnId] = {}
        found: dict[ColumnId, _Column] = {}
        for which, table in enumerate(self._tables[1:], 1):
            back = {there: n for n, there in self._maps[which - 1].items()}
            order: list[ColumnId] = []
            for place, name in enumerate(table.columns):
                key = ("b", back[place]) if place in back else added.setdefault(name, (_NAMES[which - 1], place))
                order.append(key)
                if key[0] != "b":
                    column = found.setdefault(key, _Column([None, None, None], self._header(which, place)))
                    column.places[which] = place
            ids.append(order)
        for n in range(len(self._base.columns)):
            shared = self._shared_column(n, rows)
            if shared is not None:
                found[("b", n)] = shared
        self._check_added(found, rows)
        self._combined += sum(1 for key in found if key[0] != "b")
        return [found[k] for k in merged_order(ids[0], ids[1], ids[2], found.keys()).keys]

    def _header(self, which: int, place: int) -> str:
        table = self._tables[which]
        return table.cells(table.header)[place] if table.header is not None else ""

    def _shared_column(self, n: int, rows: list[dict[object, str]]) -> _Column | None:
        """A column of the base after the merge; None if it goes."""
        places = [self._maps[0].get(n), self._maps[1].get(n)]
        column = _Column([n, *places], self._header(0, n))
        name = self._base.columns[n]
        if places[0] is None and places[1] is None:
            return None
        if None in places:
            remover, user = (0, 1) if places[0] is None else (1, 0)
            used = self._used(n, user + 1, rows)
            self._combined += 1
            if not used:
                return None
            told = f"{used} cell{'s' if used > 1 else ''} changed"
            sides: list[object] = [NOTHING, NOTHING]
            sides[user] = told
            decision = self._told(_of_column(name, None, name, sides[0], sides[1]))
            taken = 1 if decision is not None and decision.take == "source" else 0
            return None if taken == remover else column
        names = [t.columns[p] for t, p in zip(self._tables[1:], places, strict=True) if p is not None]
        headers = [self._header(which, p) for which, p in enumerate(places, 1) if p is not None]
        if names[0] != name and names[1] not in (name, names[0]):
            decision = self._told(_of_column(name, "name", name, names[0], names[1]))
            column.header = headers[1 if decision is not None and decision.take == "source" else 0]
        else:
            column.header = headers[0] if headers[0] != column.header else headers[1]
            self._combined += names != [name, name]
        return column

    def _used(self, n: int, which: int, rows: list[dict[object, str]]) -> int:
        """Cells of a base column that a side changed."""
        place = self._maps[which - 1][n]
        base, side = self._base, self._tables[which]
        count = 0
        for key, record in rows[which].items():
            was = rows[0].get(key)
            if was is not None and was != record:
                count += meaning(base.cells(was)[n]) != meaning(side.cells(record)[place])
        return count

    def _check_added(self, found: dict[ColumnId, _Column], rows: list[dict[object, str]]) -> None:
        """A column that both sides added must hold the same."""
        for column in found.values():
            if column.places[0] is not None or None in column.places[1:]:
                continue
            differ = 0
            for key in rows[1].keys() & rows[2].keys():
                cells = [
                    meaning(self._tables[w].cells(rows[w][key])[column.places[w]])  # type: ignore[index]
                    for w in (1, 2)
                ]
                differ += cells[0] != cells[1]
            if differ:
                name = meaning(column.header)
                told = f"{differ} cell{'s' if differ > 1 else ''} differ"
                decision = self._told(_of_column(name, None, NOTHING, told, told))
                taken = 2 if decision is not None and decision.take == "source" else 1
                column.places[3 - taken] = None

    # --- rows ----------------------------------------------------------------------

    def _kept_rows(self, keys: list[list[object]], rows: list[dict[object, str]]) -> list[object]:
        kept: set[object] = set()
        base, target, source = rows
        for key in dict.fromkeys([*target, *source]):
            if key in target and key in source:
                kept.add(key)
            elif key not in base:
                kept.add(key)
                self._combined += 1
            else:
                which = 1 if key in target else 2
                changed = self._changed_cells(key, which, rows)
                self._combined += 1
                if not changed:
                    continue
                label = self._label(key, rows)
                sides: list[object] = [NOTHING, NOTHING]
                sides[which - 1] = changed
                was = self._said(key, 0, rows)
                conflict = Conflict(f"/row:{label}", "row", label, None, was, sides[0], sides[1], "", SIDES)
                decision = self._told(conflict)
                taken = 2 if decision is not None and decision.take == "source" else 1
                if taken == which:
                    kept.add(key)
        self._combined += sum(1 for key in base if key not in target and key not in source)
        return merged_order(keys[0], keys[1], keys[2], kept).keys

    def _label(self, key: object, rows: list[dict[object, str]]) -> str:
        if self._key is not None:
            return ", ".join(str(k) for k in key)  # type: ignore[attr-defined]
        record = next(r[key] for r in rows if key in r)
        place = next(n for n, k in enumerate(rows[0]) if k == key) + 1 if key in rows[0] else 0
        return f"#{place}" if place else record[:60]

    def _changed_cells(self, key: object, which: int, rows: list[dict[object, str]]) -> dict[str, str]:
        """The cells of a row that a side changed, by column."""
        was, now = rows[0][key], rows[which][key]
        if was == now:
            return {}
        before, after = self._base.cells(was), self._tables[which].cells(now)
        pairs = self._maps[which - 1].items()
        return {self._base.columns[n]: meaning(after[p]) for n, p in pairs if meaning(before[n]) != meaning(after[p])}

    def _said(self, key: object, which: int, rows: list[dict[object, str]]) -> dict[str, str]:
        table = self._tables[which]
        return dict(zip(table.columns, map(meaning, table.cells(rows[which][key])), strict=True))

    # --- cells -----------------------------------------------------------------------

    def _cells(
        self, order: list[object], rows: list[dict[object, str]], columns: list[_Column]
    ) -> list[str | list[str]]:
        """The records that come out: as written on a side, or cell by cell."""
        as_is = [
            [c.places[which] for c in columns] == list(range(len(t.columns))) for which, t in enumerate(self._tables)
        ]
        result: list[str | list[str]] = []
        clashes: dict[int, list[tuple[int, Conflict, list[str]]]] = defaultdict(list)
        for key in order:
            records = [r.get(key) for r in rows]
            whole = self._whole(records, as_is)
            if whole is not None:
                self._combined += whole != records[0] and records[0] is not None
                result.append(whole)
                continue
            result.append(self._row(key, records, columns, rows, clashes, len(result)))
        self._settle_cells(columns, clashes, result)
        return result

    def _whole(self, records: list[str | None], as_is: list[bool]) -> str | None:
        """The record as a side has it, where nothing else touches it."""
        base, target, source = records
        same_columns = as_is[0] and as_is[1] and as_is[2]
        if same_columns:
            if target is None or source is None:
                return target if target is not None else source
            if target == source or source == base:
                return target
            return source if target == base else None
        if as_is[1] and target is not None and (source is None or (source == base and self._has_base_columns(2))):
            return target
        if as_is[2] and source is not None and (target is None or (target == base and self._has_base_columns(1))):
            return source
        return None

    def _has_base_columns(self, which: int) -> bool:
        return self._tables[which].header == self._base.header and len(self._maps[which - 1]) == len(self._base.columns)

    def _row(
        self,
        key: object,
        records: list[str | None],
        columns: list[_Column],
        rows: list[dict[object, str]],
        clashes: dict[int, list[tuple[int, Conflict, list[str]]]],
        place: int,
    ) -> list[str]:
        cells = [None if r is None else t.cells(r) for r, t in zip(records, self._tables, strict=True)]
        out: list[str] = []
        for n, column in enumerate(columns):
            held = [None if row is None or p is None else row[p] for row, p in zip(cells, column.places, strict=True)]
            base, target, source = held
            if target is None or source is None:
                found = target if target is not None else source
                out.append(found if found is not None else base or "")
                continue
            told = [None if c is None else meaning(c) for c in held]
            if told[1] == told[2] or told[2] == told[0]:
                self._combined += told[1] != told[0]
                out.append(target if target != base else source)
            elif told[1] == told[0]:
                self._combined += 1
                out.append(source)
            else:
                name = meaning(column.header) or self._base.columns[column.places[0] or 0]
                label = self._label(key, rows)
                was, on_target, on_source = (NOTHING if v is None else v for v in told)
                conflict = Conflict(
                    f"/row:{label}", "row", label, name, was, on_target, on_source, "", (*SIDES, "edited")
                )
                clashes[n].append((place, conflict, [target, source]))
                out.append(target)
        return out

    def _settle_cells(
        self,
        columns: list[_Column],
        clashes: dict[int, list[tuple[int, Conflict, list[str]]]],
        result: list[str | list[str]],
    ) -> None:
        for n, found in clashes.items():
            if len(found) > _MOST_CELLS:
                name = meaning(columns[n].header)
                told = f"{len(found)} cells changed to other values"
                decision = self._told(_of_column(name, "cells", "", told, told))
                decisions = [decision] * len(found)
            else:
                decisions = [self._told(conflict) for _, conflict, _ in found]
            for (place, _, sides), decision in zip(found, decisions, strict=True):
                row = result[place]
                assert isinstance(row, list)
                if decision is not None and decision.take == "edited":
                    value = decision.value
                    row[n] = self._target.written("" if value is None else str(value))
                else:
                    row[n] = sides[1 if decision is not None and decision.take == "source" else 0]

    # --- the result ------------------------------------------------------------------

    def _told(self, conflict: Conflict) -> Decision | None:
        decision = self._decisions.get(conflict.id) or (Decision(self._prefer) if self._prefer else None)
        conflict.decision = decision
        self._conflicts.append(conflict)
        return decision

    def _written(self, columns: list[_Column], records: list[str | list[str]]) -> bytes:
        base, target, source = self._tables
        frame = next((t for t in (target, source) if _dialect(t) != _dialect(base)), base)
        lines = target.above if target.above != base.above else source.above
        header = [frame.delimiter.join(c.header for c in columns)] if frame.header is not None else []
        rows = [r if isinstance(r, str) else frame.delimiter.join(r) for r in records]
        ending = target.ending if target.ending != base.ending else source.ending
        text = frame.newline.join([*lines, *header, *rows]) + ending
        mark = "\ufeff" if frame.mark else ""
        try:
            return (mark + text).encode(frame.encoding)
        except UnicodeEncodeError:
            return (mark + text).encode("utf-8")


def _of_column(name: str, field: str | None, base: object, target: object, source: object) -> Conflict:
    return Conflict(f"/column:{name}", "column", name, field, base, target, source, "", SIDES)


def _dialect(table: RawTable) -> tuple[str, str, str, bool]:
    return table.delimiter, table.newline, table.encoding, table.mark


def _column_map(base: RawTable, side: RawTable) -> dict[int, int]:
    """Place in the base -> place on the side: by name, then by what the columns hold."""
    if base.header is None or side.header is None:
        return {n: n for n in range(min(len(base.columns), len(side.columns)))}
    there = {name: n for n, name in enumerate(side.columns)}
    found = {n: there[name] for n, name in enumerate(base.columns) if name in there}
    gone = [n for n in range(len(base.columns)) if n not in found]
    come = [n for n in range(len(side.columns)) if n not in set(found.values())]
    if not gone or not come:
        return found
    scored = []
    for n in gone:
        for m in come:
            score = _alike(base, n, side, m)
            if score >= _SAME_COLUMN:
                scored.append((-score, abs(n - m), n, m))
    for _, _, n, m in sorted(scored):
        if n not in found and m not in set(found.values()):
            found[n] = m
    return found


def _alike(base: RawTable, n: int, side: RawTable, m: int) -> float:
    """How much of what two columns hold is the same, over the first rows."""
    counts = [Counter(meaning(t.cells(record)[p]) for record in t.records[:_SAMPLE]) for t, p in ((base, n), (side, m))]
    total = max(1, *(sum(c.values()) for c in counts))
    return sum((counts[0] & counts[1]).values()) / total


def _pairs_by_content(base: RawTable, side: RawTable, columns: dict[int, int]) -> list[tuple[int, int]]:
    """Rows of the base and of a side that are the same: equal ones in order, then within each gap as many for as many,
    or those with the most equal cells."""
    shared = sorted(columns)
    before = [tuple(meaning(c[n]) for n in shared) for c in map(base.cells, base.records)]
    after = [tuple(meaning(c[columns[n]]) for n in shared) for c in map(side.cells, side.records)]
    pairs = align(before, after)
    left = without(before, {i for i, _ in pairs}), without(after, {j for _, j in pairs})  # type: ignore[arg-type]
    more: list[tuple[int, int]] = []
    for gone, come in gaps(pairs, *left):
        free = list(come)
        for i in gone:
            best = max(free, key=lambda j: sum(a == b for a, b in zip(before[i], after[j], strict=True)), default=None)
            if best is None:
                break
            same = sum(a == b for a, b in zip(before[i], after[best], strict=True))
            if same * 2 >= len(shared) and same:
                more.append((i, best))
                free.remove(best)
    return sorted([*pairs, *more])
