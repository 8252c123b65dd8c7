"""Databases: schema objects by name, and the rows of every table both versions have.

A table, column, index, view, trigger or foreign key that came or went is one finding; a declaration that changed is
one.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

from everyshelf.core.answers.tables import TableAnswer
from everyshelf.core.compare.datasets import same_bytes
from everyshelf.core.compare.result import Comparison, as_bytes
from everyshelf.core.compare.sentences import count_noun
from everyshelf.core.compare.tables import table_findings
from everyshelf.core.errors import UnreadableError
from everyshelf.core.outline.model import Effect, Finding
from everyshelf.core.tables.comparing import compare_tables
from everyshelf.core.tables.databases import (
    Database,
    DatabaseColumn,
    DatabaseTable,
    opened,
    read_schema,
    row_count,
    table_source,
)
from everyshelf.core.tables.engine import Engine, borrowed_engine
from everyshelf.core.tables.given import Given
from everyshelf.core.tables.keep import Keep
from everyshelf.core.tables.options import TableOptions
from everyshelf.core.tables.profiles import profile_tables

_KINDS = (("index", "indexes"), ("view", "views"), ("trigger", "triggers"))


OptionsFor = Callable[[str], TableOptions]


def compare_databases(before: Given, after: Given, options_for: OptionsFor, keep: Keep | None = None) -> Comparison:
    """What changed; as bytes with the reason where a file cannot be read.

    ``options_for``: what is said of a table, by its name. Raises ``InvalidError`` for a key that is not in it.
    """
    if same_bytes(before, after):
        return Comparison("database")
    with borrowed_engine() as engine:
        try:
            return _Run(engine, options_for, keep or Keep()).compared(before, after)
        except UnreadableError as error:
            return as_bytes(after.name, before.size, after.size, str(error), "database")
        except MemoryError:
            why = "comparing its tables needs more memory than they may use"
            return as_bytes(after.name, before.size, after.size, why, "database")


class _Run:
    def __init__(self, engine: Engine, options_for: OptionsFor, keep: Keep) -> None:
        self._engine, self._options_for, self._keep = engine, options_for, keep
        self._findings: list[Finding] = []
        self._tables: dict[str, TableAnswer] = {}
        self._notes: list[str] = []

    def compared(self, before: Given, after: Given) -> Comparison:
        with opened(before, self._engine.folder) as one, opened(after, self._engine.folder) as other:
            old, new = read_schema(one), read_schema(other)
            self._objects(old, new)
            for name, table in new.tables.items():
                was = old.tables.get(name)
                if was is None:
                    rows = "" if table.problem else count_noun(row_count(other, name), "row")
                    self._say("added", "table", name, "alters", after=rows or None)
                    continue
                self._schema(was, table)
                if was.problem or table.problem:
                    self._notes.append(f"{name}: {was.problem or table.problem}")
                else:
                    self._rows(one, was, other, table)
            for name in old.tables:
                if name not in new.tables:
                    self._say("removed", "table", name, "breaks")
        note = "; ".join(self._notes) or ("" if self._findings else "written differently, means the same")
        return Comparison("database", self._findings, note=note, tables=self._tables)

    def _say(
        self,
        action: Any,
        part_type: str,
        name: str,
        effect: Effect,
        *,
        within: str = "",
        field: str | None = None,
        before: Any = None,
        after: Any = None,
    ) -> None:
        path = f"{within}/{part_type}:{_path(name)}"
        inside = f"table {within.rpartition(':')[2]}" if within else ""
        self._findings.append(Finding(action, path, part_type, name, effect, field, before, after, within=inside))

    def _objects(self, old: Database, new: Database) -> None:
        for kind, attribute in _KINDS:
            before, after = getattr(old, attribute), getattr(new, attribute)
            for name in dict.fromkeys((*before, *after)):
                if name not in after:
                    self._say("removed", kind, name, "breaks" if kind == "view" else "alters")
                elif name not in before:
                    self._say("added", kind, name, "alters")
                elif before[name] != after[name]:
                    effect: Effect = "breaks" if kind == "view" else "alters"
                    self._say("changed", kind, name, effect, field="definition", before=before[name], after=after[name])
        for name, value in new.settings.items():
            if old.settings[name] != value:
                effect = "cosmetic" if name == "encoding" else "alters"
                self._findings.append(
                    Finding("changed", "/", "database", name, effect, name, old.settings[name], value)
                )

    def _schema(self, old: DatabaseTable, new: DatabaseTable) -> None:
        within = f"/table:{_path(new.name)}"
        before, after = ({c.name: c for c in t.columns} for t in (old, new))
        for name in before.keys() & after.keys():
            for field, was, now, effect in _declared(before[name], after[name]):
                self._say("changed", "column", name, effect, within=within, field=field, before=was, after=now)
        if old.key != new.key:
            was, now = (", ".join(t.key) or "none" for t in (old, new))
            self._say("changed", "table", new.name, "breaks", field="primary key", before=was, after=now)
        if old.options != new.options:
            self._say("changed", "table", new.name, "alters", field="options", before=old.options, after=new.options)
        for reference in old.references:
            if reference not in new.references:
                self._say("removed", "foreign key", _named(reference), "alters", within=within)
        for reference in new.references:
            if reference not in old.references:
                self._say("added", "foreign key", _named(reference), "breaks", within=within)

    def _rows(self, one: Any, old: DatabaseTable, other: Any, new: DatabaseTable) -> None:
        before, after = table_source(self._engine, one, old), table_source(self._engine, other, new)
        preferred = new.key if new.key == old.key else ()
        options = replace(self._options_for(new.name), preferred=preferred)
        keep = Keep(self._keep.first, rows_file(self._keep.path, new.name) if self._keep.path else None)
        found = compare_tables(self._engine, before, after, options, keep)
        profiles = (
            [] if found.unrelated else profile_tables(self._engine, before, after, found.columns, options, found.key)
        )
        shifts = [p.shift for p in profiles if p.shift is not None and p.column not in (*found.key, *found.renumbered)]
        within = f"/table:{_path(new.name)}"
        told = table_findings(found, within=within, shifts=shifts)
        # The schema says the type; what values a column happens to hold is no second finding.
        self._findings += [f for f in told if f.field != "type"]
        self._notes += [f"{new.name}: {note}" for note in found.notes]
        self._tables[new.name] = found.answer(profiles)


def _path(name: str) -> str:
    return name.replace("/", "%2F")


def _declared(old: DatabaseColumn, new: DatabaseColumn) -> list[tuple[str, Any, Any, Effect]]:
    found: list[tuple[str, Any, Any, Effect]] = []
    if old.type != new.type:
        found.append(("type", old.type, new.type, "breaks"))
    if old.required != new.required:
        found.append(("required", old.required, new.required, "breaks" if new.required else "alters"))
    if old.default != new.default:
        found.append(("default", old.default, new.default, "alters"))
    if old.generated != new.generated:
        found.append(("generated", old.generated, new.generated, "breaks"))
    return found


def _named(reference: tuple[str, str, str, str]) -> str:
    here, table, there, deleted = reference
    follows = "" if deleted == "NO ACTION" else f", on delete {deleted.lower()}"
    return f"{here} → {table}({there}){follows}" if there else f"{here} → {table}{follows}"


def rows_file(path: Path, table: str) -> Path:
    """Where the rows of one table among several are kept, beside ``path``."""
    name = hashlib.sha256(table.encode("utf-8", "surrogatepass")).hexdigest()[:16]
    return path.with_name(f"{path.name}.{name}")
