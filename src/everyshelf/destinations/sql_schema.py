"""What a database tells of itself, through SQLAlchemy's inspector."""

from __future__ import annotations

import hashlib
import json
from typing import Any

import sqlalchemy as sa
from sqlalchemy.engine import Connection
from sqlalchemy.exc import CompileError

from everyshelf.core.databases import Check, Column, Index, Reference, Schema, Table, Unique
from everyshelf.core.databases.engine import DEPLOYMENTS
from everyshelf.core.databases.schema import normal

MADE_AS = "everyshelf view"


def sql_schema(connection: Connection, only: str = "") -> Schema:
    """Tables and views of the usual schema; with ``only`` just that table, wherever it is."""
    inspector = sa.inspect(connection)
    schema = Schema()
    if only:
        schema.tables[only] = _table(inspector, connection, only)
        return schema
    for name in sorted(inspector.get_table_names()):
        if name != DEPLOYMENTS:
            schema.tables[name] = _table(inspector, connection, name)
    for name in sorted(inspector.get_view_names()):
        schema.views[name] = _view(inspector, name)
    return schema


def _view(inspector: Any, name: str) -> str:
    """The text it was made from, if it is still that view; else what the database makes of it."""
    found = inspector.get_view_definition(name) or ""
    try:
        kept = json.loads(inspector.get_table_comment(name)["text"] or "")
        if kept["found"] == hashlib.sha256(found.encode()).hexdigest():
            return str(kept[MADE_AS])
    except (ValueError, KeyError, TypeError, NotImplementedError):
        pass
    quoted = inspector.dialect.identifier_preparer.quote_identifier(name)
    text = found.strip().removesuffix(";").rstrip()
    return text if text.upper().startswith("CREATE ") else f"CREATE VIEW {quoted} AS\n{text}"


def _table(inspector: Any, connection: Connection, name: str) -> Table:
    columns, counts, unknown = [], False, ""
    for said in inspector.get_columns(name):
        try:
            type_ = said["type"].compile(dialect=connection.dialect)
        except (CompileError, NotImplementedError):
            type_, unknown = "", said["name"]
        default = said.get("default")
        counted = bool(said.get("identity")) or str(default or "").startswith("nextval(")
        counts = counts or counted
        computed = said.get("computed") or {}
        columns.append(
            Column(
                said["name"],
                str(type_),
                not said["nullable"],
                None if counted or computed else default,
                "",
                str(computed.get("sqltext", "")),
                bool(computed.get("persisted")),
            )
        )
    key = tuple(inspector.get_pk_constraint(name).get("constrained_columns") or ())
    if unknown:
        return Table(name, tuple(columns), key, as_is=f"-- the type of the column {unknown} has no name here")
    unique = tuple(Unique(tuple(u["column_names"])) for u in inspector.get_unique_constraints(name))
    return normal(
        Table(
            name,
            tuple(columns),
            key,
            unique,
            tuple(_reference(r) for r in inspector.get_foreign_keys(name)),
            _checks(inspector, name),
            _indexes(inspector, name),
            ("AUTOINCREMENT",) if counts else (),
        )
    )


def _reference(said: dict[str, Any]) -> Reference:
    options = said.get("options") or {}
    delete, update = (str(options.get(n) or "").upper() for n in ("ondelete", "onupdate"))
    there, table = tuple(said["referred_columns"]), said["referred_table"]
    deferred = str(options.get("initially") or "").upper() == "DEFERRED"
    delete, update = (w if w != "NO ACTION" else "" for w in (delete, update))
    return Reference(tuple(said["constrained_columns"]), table, there, delete, update, deferred)


def _checks(inspector: Any, name: str) -> tuple[Check, ...]:
    try:
        found = inspector.get_check_constraints(name)
    except NotImplementedError:
        return ()
    # Names that the database made up itself say nothing; the condition tells which it is.
    return tuple(Check(str(c["sqltext"])) for c in sorted(found, key=lambda c: str(c["sqltext"])))


def _indexes(inspector: Any, name: str) -> tuple[Index, ...]:
    found = []
    for said in inspector.get_indexes(name):
        if said.get("duplicates_constraint"):
            continue
        texts = said.get("expressions") or said["column_names"]
        sorting = said.get("column_sorting") or {}
        columns = [f"{t} {' '.join(sorting[t]).upper().replace('_', ' ')}" if t in sorting else str(t) for t in texts]
        where = (said.get("dialect_options") or {}).get("postgresql_where", "")
        found.append(Index(str(said["name"]), tuple(columns), bool(said["unique"]), str(where or "")))
    return tuple(found)
