"""Findings of a table.

One for each column added, removed, renamed, retyped, widened or narrowed, one for rows added, one for rows removed, one
for each column with changed cells, and one for each whose values shift beyond its limit.
"""

from __future__ import annotations

from typing import Any

from everyshelf.core.compare.sentences import count_noun
from everyshelf.core.outline.model import Effect, Finding, Step
from everyshelf.core.tables.comparing import TableComparison
from everyshelf.core.tables.profiles import Shift
from everyshelf.core.tables.spelling import name_of


def table_findings(
    found: TableComparison, *, within: str = "", column_type: str = "column", shifts: list[Shift] | None = None
) -> list[Finding]:
    """``within``: path of the part that holds the table, where a file holds several."""
    return _Findings(found, within, column_type).all(shifts or [])


class _Findings:
    def __init__(self, found: TableComparison, within: str, column_type: str) -> None:
        self._found, self._within, self._column_type = found, within, column_type
        self._list: list[Finding] = []

    def all(self, shifts: list[Shift]) -> list[Finding]:
        if self._found.unrelated:
            self._unrelated()
            return self._list
        self._columns()
        self._rows()
        self._cells()
        for shift in shifts:
            if shift.beyond:
                detail = f"shifts {shift.value:.2f}, over {shift.limit:g} ({shift.measure})"
                self._say("changed", shift.column, "alters", field="shift", detail=detail)
        self._layout()
        return self._list

    def _say(
        self,
        action: Step,
        name: str,
        effect: Effect,
        *,
        field: str | None = None,
        before: Any = None,
        after: Any = None,
        detail: str = "",
    ) -> None:
        path = f"{self._within}/{self._column_type}:{name.replace('/', '%2F')}"
        inside = f"table {self._within.rpartition(':')[2].replace('%2F', '/')}" if self._within else ""
        self._list.append(Finding(action, path, self._column_type, name, effect, field, before, after, detail, inside))

    def _table(
        self, action: Step, label: str, effect: Effect, field: str | None = None, before: Any = None, after: Any = None
    ) -> None:
        self._list.append(Finding(action, self._within or "/", "table", label, effect, field, before, after))

    def _unrelated(self) -> None:
        sizes = [
            f"{count_noun(s.row_count, 'row')}, {count_noun(len(s.columns), 'column')}"
            for s in (self._found.before, self._found.after)
        ]
        self._table("changed", "whole table", "breaks", "content", *sizes)

    def _columns(self) -> None:
        columns = self._found.columns
        for column in columns.removed:
            self._say("removed", column.name, "breaks", before=column.told_type)
        for column in columns.added:
            self._say("added", column.name, "alters", after=column.told_type)
        for before, after in columns.renamed:
            self._say("renamed", after, "breaks", before=before, after=after)
        for name, (change, old, new) in columns.retyped.items():
            effect: Effect = "alters" if change == "widened" else "breaks"
            self._say("changed", name, effect, field="type", before=old.told_type, after=new.told_type)
        if columns.reordered:
            self._table("reordered", "columns", "cosmetic")

    def _rows(self) -> None:
        actions: tuple[Step, ...] = ("added", "removed")
        for action in actions:
            if count := getattr(self._found.rows, action):
                key = ", ".join(self._found.key)
                path = f"{self._within}/rows"
                self._list.append(Finding(action, path, "rows", count_noun(count, "row"), "alters", detail=key))

    def _cells(self) -> None:
        for name, counts in self._found.rows.cells.items():
            if counts.changed:
                given = name in self._found.renumbered
                detail = count_noun(counts.changed, "cell") + (" renumbered" if given else "")
                self._say("changed", name, "alters", detail=detail)
            if counts.representation_only:
                word = "rounded" if name in self._found.rows.rounded else "respelt"
                self._say(
                    "changed", name, "cosmetic", detail=f"{count_noun(counts.representation_only, 'cell')} {word}"
                )
        for pair in self._found.columns.pairs:
            if pair.before.spelling != pair.after.spelling and pair.before.family == pair.after.family:
                before, after = (name_of(c.spelling, c.family) for c in (pair.before, pair.after))
                self._say("changed", pair.name, "cosmetic", field="spelling", before=before, after=after)

    def _layout(self) -> None:
        old, new = self._found.before, self._found.after
        for name in dict.fromkeys((*old.layout, *new.layout)):
            before, after = old.layout.get(name), new.layout.get(name)
            if before != after:
                self._table("changed", "layout", "cosmetic", name, before, after)
        if old.preamble != new.preamble:
            texts = ["\n".join(side.preamble) for side in (old, new)]
            self._table("changed", "lines above the header", "cosmetic", "preamble", *texts)
