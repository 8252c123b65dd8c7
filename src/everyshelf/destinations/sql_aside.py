"""Foreign keys, uniqueness and triggers that would be in the way while a transaction changes a database step by step:
put aside, and asked again when all is done.

Where records of two tables change together there may be no order in which each foreign key holds at each step.
PostgreSQL can look at one later (``ALTER CONSTRAINT … DEFERRABLE``,
https://www.postgresql.org/docs/current/sql-altertable.html) without reading the table anew. One that acts by itself
(``CASCADE``, ``RESTRICT``, …) does so at once all the same: it is taken off and put back, as are those of tables that
are altered, and all of them in other databases. What records exchange is unique again only when all have it. Triggers
of PostgreSQL do not run meanwhile: they would change what is put.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import sqlalchemy as sa
from sqlalchemy.engine import Connection

from everyshelf.core.databases import Schema, Table
from everyshelf.core.databases.engine import RowPlan
from everyshelf.core.databases.statements import quoted, reference_line

_ACTING = ("CASCADE", "SET NULL", "SET DEFAULT", "RESTRICT")
# How a trigger is on (https://www.postgresql.org/docs/current/catalog-pg-trigger.html), and made so again.
_STATES = {"O": "ENABLE", "A": "ENABLE ALWAYS", "R": "ENABLE REPLICA"}


class Aside:
    """What was put aside in one transaction."""

    def __init__(self, connection: Connection, dialect: str) -> None:
        self._connection, self._defers = connection, dialect == "postgresql"
        self._reflected = sa.MetaData()
        self._off: list[sa.ForeignKeyConstraint | sa.UniqueConstraint | sa.Index] = []
        self._later: list[tuple[str, str]] = []
        self._silenced: list[tuple[str, str, str]] = []

    def take(self, before: Schema, after: Schema, rows: Mapping[str, RowPlan]) -> None:
        """Put aside everything that could be in the way of what is going to be done."""
        remade = {name for name, table in before.tables.items() if after.tables.get(name) != table}
        inspector = sa.inspect(self._connection)
        for (_, child), keys in inspector.get_multi_foreign_keys().items():
            for said in keys:
                parent = str(said["referred_table"])
                if not said["name"] or not {child, parent} & (remade | rows.keys()):
                    continue
                acts = parent in rows and _acts(said, before.tables[parent], rows[parent])
                if {child, parent} & remade or acts or not self._defers:
                    self._take_off_key(child, said["name"], kept=child not in remade)
                elif not (said.get("options") or {}).get("deferrable"):
                    self._alter(child, said["name"], "DEFERRABLE INITIALLY DEFERRED")
                    self._later.append((child, said["name"]))
        for name, plan in rows.items():
            if plan.exchanges and name in before.tables:
                self._take_off_unique(name, after.tables[name])
            if self._defers and name in before.tables:
                self._silence(name)
        if self._defers:
            self._connection.exec_driver_sql("SET CONSTRAINTS ALL DEFERRED")

    def _take_off_key(self, child: str, name: str, *, kept: bool) -> None:
        found = next(key for key in self._table(child).foreign_key_constraints if key.name == name)
        self._connection.execute(sa.schema.DropConstraint(found))
        if kept:
            self._off.append(found)

    def _take_off_unique(self, name: str, wanted: Table) -> None:
        table = self._table(name)
        for found in [c for c in table.constraints if isinstance(c, sa.UniqueConstraint)]:
            self._connection.execute(sa.schema.DropConstraint(found))
            if tuple(c.name for c in found.columns) in {u.columns for u in wanted.unique}:
                self._off.append(found)
        kept = {index.name for index in wanted.indexes}
        for index in [i for i in table.indexes if i.unique]:
            self._connection.execute(sa.schema.DropIndex(index))
            if index.name in kept:
                self._off.append(index)

    def _silence(self, name: str) -> None:
        """Switch off the triggers of a table that are on."""
        asked = "SELECT tgname, tgenabled FROM pg_trigger WHERE tgrelid = to_regclass(:t) AND NOT tgisinternal"
        for trigger, state in self._connection.execute(sa.text(asked), {"t": quoted(name)}).all():
            if state in _STATES:
                self._connection.exec_driver_sql(f"ALTER TABLE {quoted(name)} DISABLE TRIGGER {quoted(trigger)}")
                self._silenced.append((name, _STATES[state], trigger))

    def _table(self, name: str) -> sa.Table:
        return sa.Table(name, self._reflected, autoload_with=self._connection)

    def _alter(self, child: str, name: str, how: str) -> None:
        self._connection.exec_driver_sql(f"ALTER TABLE {quoted(child)} ALTER CONSTRAINT {quoted(name)} {how}")

    def ask(self) -> None:
        """Look now at what was to be looked at later: all records are there."""
        if self._defers:
            self._connection.exec_driver_sql("SET CONSTRAINTS ALL IMMEDIATE")

    def put_back(self, before: Schema, after: Schema) -> None:
        """Ask all of it again, and the foreign keys of tables that were made or altered; the database raises what does
        not hold."""
        self.ask()
        for found in sorted(self._off, key=lambda one: isinstance(one, sa.ForeignKeyConstraint)):
            made = sa.schema.CreateIndex(found) if isinstance(found, sa.Index) else sa.schema.AddConstraint(found)
            self._connection.execute(made)
        for child, name in self._later:
            self._alter(child, name, "NOT DEFERRABLE")
        for table_name, how, trigger in self._silenced:
            self._connection.exec_driver_sql(f"ALTER TABLE {quoted(table_name)} {how} TRIGGER {quoted(trigger)}")
        for name, table in after.tables.items():
            if before.tables.get(name) != table and not table.as_is:
                for reference in table.references:
                    statement = f"ALTER TABLE {quoted(name)} ADD {reference_line(reference)}"
                    self._connection.exec_driver_sql(statement.replace("%", "%%"))


def _acts(said: Any, parent: Table, rows: RowPlan) -> bool:
    """Whether a foreign key would do or refuse something by itself, at once, when ``rows`` happen to the table it
    names; or is in the way of exchanging what is unique there."""
    options = said.get("options") or {}
    to_key = set(said["referred_columns"]) <= set(parent.key)
    if rows.exchanges and not to_key:
        return True
    if rows.gone and str(options.get("ondelete") or "").upper() in _ACTING:
        return True
    return bool(rows.changed) and not to_key and str(options.get("onupdate") or "").upper() in _ACTING
