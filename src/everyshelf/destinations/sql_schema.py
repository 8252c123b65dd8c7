"""What a database tells of itself, through SQLAlchemy's inspector."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Iterable
from typing import Any

import sqlalchemy as sa
from sqlalchemy.engine import Connection
from sqlalchemy.engine.reflection import ObjectScope
from sqlalchemy.exc import CompileError

from everyshelf.core.databases import Check, Column, Index, Reference, Schema, Table, Unique
from everyshelf.core.databases.engine import DEPLOYMENTS
from everyshelf.core.databases.schema import normal
from everyshelf.core.databases.statements import quoted

MADE_AS = "everyshelf view"


_ASKED = ("columns", "pk_constraint", "unique_constraints", "foreign_keys", "check_constraints", "indexes")


def sql_schema(connection: Connection, only: str = "") -> Schema:
    """Tables and views of the usual schema; with ``only`` just that temporary table."""
    inspector = sa.inspect(connection)
    schema = Schema()
    options: dict[str, Any] = {"filter_names": [only], "scope": ObjectScope.TEMPORARY} if only else {}
    # One question for all tables, not one for each.
    told = {what: _asked(getattr(inspector, f"get_multi_{what}"), options) for what in _ASKED}
    for name in sorted(told["columns"]):
        if name != DEPLOYMENTS:
            schema.tables[name] = _table({what: found.get(name) for what, found in told.items()}, connection, name)
    for name in sorted(inspector.get_view_names()) if not only else ():
        schema.views[name] = _view(inspector, name)
    return schema


def _asked(ask: Callable[..., dict[Any, Any]], options: dict[str, Any]) -> dict[str, Any]:
    try:
        return {name: said for (_, name), said in ask(**options).items()}
    except NotImplementedError:  # not every database tells of conditions
        return {}


def _view(inspector: Any, name: str) -> str:
    """The text it was made from, if it is still that view; else what the database makes of it."""
    found = inspector.get_view_definition(name) or ""
    try:
        kept = json.loads(inspector.get_table_comment(name)["text"] or "")
        if kept["found"] == hashlib.sha256(found.encode()).hexdigest():
            return str(kept[MADE_AS])
    except (ValueError, KeyError, TypeError, NotImplementedError):
        pass
    called = inspector.dialect.identifier_preparer.quote_identifier(name)
    text = found.strip().removesuffix(";").rstrip()
    return text if text.upper().startswith("CREATE ") else f"CREATE VIEW {called} AS\n{text}"


def _table(told: dict[str, Any], connection: Connection, name: str) -> Table:
    columns, counts, unknown = [], False, ""
    for said in told["columns"]:
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
    key = tuple((told["pk_constraint"] or {}).get("constrained_columns") or ())
    if unknown:
        return Table(name, tuple(columns), key, as_is=f"-- the type of the column {unknown} has no name here")
    unique = tuple(Unique(tuple(u["column_names"])) for u in told["unique_constraints"] or ())
    return normal(
        Table(
            name,
            tuple(columns),
            key,
            unique,
            tuple(_reference(r) for r in told["foreign_keys"] or ()),
            _checks(told["check_constraints"] or ()),
            _indexes(told["indexes"] or ()),
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


def _checks(found: Iterable[Any]) -> tuple[Check, ...]:
    # Names that the database made up itself say nothing; the condition tells which it is.
    return tuple(Check(str(c["sqltext"])) for c in sorted(found, key=lambda c: str(c["sqltext"])))


def _indexes(told: Iterable[Any]) -> tuple[Index, ...]:
    found = []
    for said in told:
        if said.get("duplicates_constraint"):
            continue
        names = said["column_names"]
        texts = zip(names, said.get("expressions") or names, strict=True)
        sorting = said.get("column_sorting") or {}
        beside = {name.partition("_")[2]: more for name, more in (said.get("dialect_options") or {}).items()}
        operators = beside.get("ops") or {}
        columns = []
        for name, text in texts:
            words = [quoted(name) if name is not None else str(text)]
            words += [str(operators[text])] if text in operators else []
            columns.append(" ".join([*words, *(w.upper().replace("_", " ") for w in sorting.get(text, ()))]))
        method = str(beside.get("using") or "")
        found.append(
            Index(
                str(said["name"]),
                tuple(columns),
                bool(said["unique"]),
                str(beside.get("where") or ""),
                "" if method == "btree" else method,
                tuple(beside.get("include") or ()),
            )
        )
    return tuple(found)
