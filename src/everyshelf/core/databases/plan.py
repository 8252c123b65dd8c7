"""What has to be done to a database so that it becomes what the shelf says: first told, then done."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import Any, Literal

from everyshelf.core.databases.engine import Changes, Row, RowPlan
from everyshelf.core.databases.files import NOT_TOLD, default_value, is_named, row_key
from everyshelf.core.databases.schema import Column, Reference, Schema, Table, parents_first
from everyshelf.core.databases.statements import index_statement
from everyshelf.core.errors import ConflictError
from everyshelf.core.kinds.captured import widens

Action = Literal["created", "altered", "removed"]
# Number of records of a table; of those that have a value in a column, if one is named.
Count = Callable[[str, str], int]


@dataclass(frozen=True)
class Step:
    """One thing that is done to a place. ``name``: a table, or TABLE.COLUMN, and so on. ``lost``: something is there
    that would be gone, and cannot be brought back from the shelf."""

    action: Action
    what: str
    name: str
    message: str = ""
    lost: bool = False

    def as_json(self) -> dict[str, Any]:
        """Its public form."""
        return {
            "action": self.action,
            "what": self.what,
            "name": self.name,
            "message": self.message,
            "lost": self.lost,
        }


@dataclass
class Plan:
    """Everything to be done, in terms of the schema before and after, and the records of chosen tables."""

    before: Schema
    after: Schema
    steps: list[Step] = field(default_factory=list)
    rows: dict[str, RowPlan] = field(default_factory=dict)

    @property
    def alters_tables(self) -> bool:
        """Whether anything but records changes."""
        return any(step.what != "records" for step in self.steps)

    def carry_out(self, changes: Changes) -> None:
        """Do it, within one transaction: removals children first, what is put parents first, conditions last."""
        with changes.loosened(self.before, self.after, self.rows):
            self._carry_out(changes)

    def _carry_out(self, changes: Changes) -> None:
        before, after = self.before, self.after
        order = parents_first({**before.tables, **after.tables})
        altered = [n for n in order if n in before.tables and n in after.tables and self._differs(n)]
        dropped = [n for n in reversed(order) if n not in after.tables]
        touched = bool(altered or dropped)
        triggers = touched or bool(self.rows) or before.triggers != after.triggers
        views = touched or before.views != after.views
        for name in before.triggers if triggers else ():
            changes.forget("trigger", name)
        for name in reversed(_mentioned_first(before.views)) if views else ():
            changes.forget("view", name)
        self._remove(changes, [n for n in reversed(order) if n in before.tables and n not in dropped])
        for name in dropped:
            changes.drop(before.tables[name])
        for name in altered:
            self._forget_indexes(changes, name)
            changes.alter(before.tables[name], after.tables[name], refill=name in self.rows)
        created = [n for n in order if n in after.tables and n not in before.tables]
        for name in created:
            changes.create(after.tables[name])
        self._put(changes, [n for n in order if n in after.tables])
        for name in altered:
            changes.constrain(before.tables[name], after.tables[name])
        for name in (*altered, *created):
            self._make_indexes(changes, name)
        for name in _mentioned_first(after.views) if views else ():
            changes.run(after.views[name])
        for name in sorted(after.triggers) if triggers else ():
            changes.run(after.triggers[name])

    def _remove(self, changes: Changes, names: list[str]) -> None:
        for name in names:
            if (plan := self.rows.get(name)) and plan.gone:
                changes.remove(self.before.tables[name], plan.gone)

    def _put(self, changes: Changes, names: list[str]) -> None:
        for name in names:
            if name in self.rows:
                changes.put(self.after.tables[name], self.rows[name].changed, replacing=True)
                changes.put(self.after.tables[name], self.rows[name].fresh, replacing=False)

    def _differs(self, name: str) -> bool:
        return self.before.tables[name] != self.after.tables[name]

    def _forget_indexes(self, changes: Changes, name: str) -> None:
        wanted = set(self.after.tables[name].indexes)
        for index in self.before.tables[name].indexes:
            if index not in wanted:
                changes.forget("index", index.name, name)

    def _make_indexes(self, changes: Changes, name: str) -> None:
        for index in self.after.tables[name].indexes:
            # One that nothing changed is there already, unless the table was made anew.
            changes.forget("index", index.name, name)
            changes.run(index_statement(index, name, index.name))


def _mentioned_first(views: dict[str, str]) -> list[str]:
    """Views in an order in which one comes after those it mentions."""
    tables = {}
    for name, sql in views.items():
        words = {w.strip('"[]`') for w in re.findall(r'"[^"]+"|\[[^\]]+\]|`[^`]+`|\w+', sql)}
        named = tuple(Reference(("",), other) for other in views if other != name and other in words)
        tables[name] = Table(name, references=named)
    return parents_first(tables)


# --- planning ---------------------------------------------------------------------


def plan_changes(before: Schema, after: Schema, rows: dict[str, tuple[int, RowPlan]], count: Count) -> Plan:
    """What has to be done. ``rows``: of tables whose records come along, how many are there after, and what happens to
    them. Raises ``ConflictError`` for a table that can only be altered by hand."""
    plan = Plan(before, after, rows={name: found for name, (_, found) in rows.items() if found})
    for name in parents_first({**before.tables, **after.tables}):
        old, new = before.tables.get(name), after.tables.get(name)
        if new is None and old is not None:
            held = count(name, "")
            plan.steps.append(Step("removed", "table", name, f"with {_nouns(held, 'record')}", lost=True))
        elif old is None and new is not None:
            plan.steps.append(Step("created", "table", name, _nouns(len(new.columns), "column")))
            plan.steps += [Step("created", "index", i.name, f"on {name}") for i in new.indexes]
        elif old is not None and new is not None and old != new:
            plan.steps += _altered(old, new, count)
        if name in plan.rows:
            plan.steps += _record_steps(name, plan.rows[name], known=old is not None)
    plan.steps += _statements("view", before.views, after.views)
    plan.steps += _statements("trigger", before.triggers, after.triggers)
    rank = {"created": 0, "altered": 1, "removed": 2}
    plan.steps.sort(key=lambda s: rank[s.action])
    return plan


def _nouns(number: int, noun: str) -> str:
    return f"{number:,} {noun}" + ("" if number == 1 else "s")


def _record_steps(name: str, plan: RowPlan, *, known: bool) -> list[Step]:
    gone = len(plan.gone) if known else 0
    found = [
        ("created", len(plan.fresh), "put there"),
        ("altered", len(plan.changed), "changed"),
        ("removed", gone, "removed"),
    ]
    return [Step(action, "records", name, f"{_nouns(n, 'record')} {verb}") for action, n, verb in found if n]  # type: ignore[arg-type]


def _altered(old: Table, new: Table, count: Count) -> list[Step]:
    if old.as_is or new.as_is:
        raise ConflictError(
            f"table {new.table} was made by a statement that says more than can be altered from here",
            code="database.as_is",
            hint="Alter it in the database by hand, capture that (drift --capture), and tag again.",
        )
    name, steps = new.table, []
    renamed = renamed_columns(old, new)
    for column in new.columns:
        was = old.by_name.get(renamed.get(column.name, column.name))
        if was is None:
            steps.append(Step("created", "column", f"{name}.{column.name}", _column_said(column)))
            continue
        if column.name in renamed:
            steps.append(Step("altered", "column", f"{name}.{column.name}", f"was called {was.name}"))
        steps += _column_steps(name, was, column)
    for column in old.columns:
        if column.name not in new.by_name and column.name not in renamed.values():
            held = 0 if column.generated else count(name, column.name)
            said = f"with {_nouns(held, 'value')}"
            steps.append(Step("removed", "column", f"{name}.{column.name}", said, lost=held > 0))
    if [c for c in old.by_name if c in new.by_name] != [c for c in new.by_name if c in old.by_name]:
        steps.append(Step("altered", "table", name, "its columns in another order"))
    if old.key != new.key:
        said = f"{', '.join(old.key) or 'none'} → {', '.join(new.key) or 'none'}"
        steps.append(Step("altered", "key", name, said))
    if old.options != new.options:
        steps.append(Step("altered", "table", name, f"{' '.join(old.options)} → {' '.join(new.options)}".strip()))
    for what, attribute in (
        ("unique", "unique"),
        ("foreign key", "references"),
        ("check", "checks"),
        ("index", "indexes"),
    ):
        was, now = getattr(old, attribute), getattr(new, attribute)
        steps += [Step("created", what, f"{name}: {_named(p)}") for p in now if p not in was]
        steps += [Step("removed", what, f"{name}: {_named(p)}") for p in was if p not in now]
    return steps


def renamed_columns(old: Table, new: Table) -> dict[str, str]:
    """New name -> old name, where a column says what it was called and that one is still there."""
    return {
        c.name: c.was
        for c in new.columns
        if c.was and c.was in old.by_name and c.name not in old.by_name and c.was not in new.by_name
    }


def _column_said(column: Column) -> str:
    said = [column.type or "of any type"]
    if column.generated:
        said.append(f"worked out as {column.generated}")
    if column.required:
        said.append("required")
    if column.default is not None:
        said.append(f"{column.default} where nothing is told")
    return ", ".join(said)


def _column_steps(table: str, old: Column, new: Column) -> list[Step]:
    name, steps = f"{table}.{new.name}", []
    if old.type.upper() != new.type.upper():
        narrow = not widens(old.type, new.type)
        steps.append(Step("altered", "column", name, f"type {old.type or 'any'} → {new.type or 'any'}", lost=narrow))
    if old.required != new.required:
        steps.append(Step("altered", "column", name, "required" if new.required else "no longer required"))
    if old.default != new.default:
        steps.append(Step("altered", "column", name, f"default {old.default or 'none'} → {new.default or 'none'}"))
    if (old.generated, old.stored) != (new.generated, new.stored):
        was, now = (c.generated or "given" for c in (old, new))
        lost = bool(new.generated and not old.generated)
        steps.append(Step("altered", "column", name, f"worked out: {was} → {now}", lost=lost))
    if old.collation != new.collation:
        steps.append(Step("altered", "column", name, f"compared as {new.collation or 'usual'}"))
    return steps


def _named(part: Any) -> str:
    if isinstance(part, Reference):
        there = f"({', '.join(part.there)})" if part.there else ""
        return f"{', '.join(part.columns)} → {part.table}{there}"
    return str(getattr(part, "name", "") or getattr(part, "holds", "") or ", ".join(part.columns))


def _statements(what: str, before: dict[str, str], after: dict[str, str]) -> list[Step]:
    steps = [Step("created", what, n) for n in sorted(after.keys() - before.keys())]
    steps += [Step("altered", what, n) for n in sorted(before.keys() & after.keys()) if before[n] != after[n]]
    return steps + [Step("removed", what, n) for n in sorted(before.keys() - after.keys())]


def plan_rows(old: Table | None, new: Table, there: Iterable[Row], wanted: Iterable[Row]) -> tuple[int, RowPlan]:
    """How many records there will be, and what happens to them. ``there`` is in terms of ``old``."""
    if not new.key or old is None or old.key != new.key:
        now, old_rows = list(wanted), list(there)
        same = old is not None and old.key == new.key and sorted(map(repr, now)) == sorted(map(repr, old_rows))
        return len(now), RowPlan() if same else RowPlan(gone=old_rows, fresh=now)
    renamed = renamed_columns(old, new)
    added = {c.name: default_value(c) for c in new.columns if renamed.get(c.name, c.name) not in old.by_name}
    names = new.filled
    known: dict[Any, tuple[Row, Row]] = {}
    nameless: list[tuple[Row, Row]] = []
    for row in there:
        seen = {n: added.get(n, row.get(renamed.get(n, n))) for n in names}
        if is_named(old, row):
            known[row_key(old, row)] = row, seen
        else:
            nameless.append((row, seen))
    plan, number = RowPlan(), 0
    replaced: list[Row] = []
    new_nameless: list[Row] = []
    for row in wanted:
        number += 1
        if not is_named(new, row):
            new_nameless.append(row)
            continue
        found = known.pop(row_key(new, row), None)
        if found is None:
            plan.fresh.append(row)
        elif not _same(found[1], row):
            plan.changed.append(row)
            replaced.append(found[1])
    plan.gone = [row for row, _ in known.values()]
    if list(map(repr, new_nameless)) != [repr(seen) for _, seen in nameless]:
        # Which of them is which nobody can tell: all go, and all come.
        plan.gone += [row for row, _ in nameless]
        plan.fresh += new_nameless
    plan.exchanges = _exchange(new, replaced, plan.changed)
    return number, plan


def _exchange(table: Table, replaced: list[Row], changed: list[Row]) -> bool:
    """Whether a changed record takes what has to be unique from another that changes."""
    alone: list[tuple[str, ...]] = [u.columns for u in table.unique]
    alone += [tuple(c.strip('"') for c in i.columns) for i in table.indexes if i.unique]
    for columns in alone:
        if not set(columns) <= table.by_name.keys():  # an expression: nobody worked it out
            if len(changed) > 1:
                return True
            continue
        were, are = ([repr([r.get(c) for c in columns]) for r in rows] for rows in (replaced, changed))
        moved = {now for was, now in zip(were, are, strict=True) if was != now}
        if moved & {was for was, now in zip(were, are, strict=True) if was != now}:
            return True
    return False


def _same(one: Row, other: Row) -> bool:
    for name, value in one.items():
        now = other[name]
        if value is NOT_TOLD or type(value) is not type(now) or value != now:
            return False
    return True
