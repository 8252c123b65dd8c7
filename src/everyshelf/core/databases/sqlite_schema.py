"""What SQLite tells of a table, and the statement that makes one.

Most is asked of the database (https://www.sqlite.org/pragma.html). Conditions, collations, expressions and a few
options are told by the statement only (https://www.sqlite.org/lang_createtable.html). A statement that says anything
else is kept as it is.
"""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from everyshelf.core.databases.engine import DEPLOYMENTS
from everyshelf.core.databases.schema import Check, Column, Index, Reference, Schema, Table, Unique, normal
from everyshelf.core.databases.statements import listed, quoted, reference_line
from everyshelf.core.databases.tokens import Token, tokens, unquoted, without_comments
from everyshelf.core.errors import ConflictError, UnreadableError
from everyshelf.core.tables.databases import Database as Told
from everyshelf.core.tables.databases import DatabaseTable, read_schema

_LITERAL = re.compile(
    r"(?:[-+]?\d[\w.+-]*|x?'(?:[^']|'')*'|null|true|false|current_(?:time|date|timestamp))\Z", re.IGNORECASE
)
_TABLE_WORDS = {"CONSTRAINT", "PRIMARY", "UNIQUE", "CHECK", "FOREIGN"}
# What a column may say beside these is asked of the database.
_HARMLESS = {"NOT", "NULL", "PRIMARY", "KEY", "UNIQUE", "DEFAULT", "REFERENCES", "ON", "DELETE", "UPDATE", "CONSTRAINT"}
_HARMLESS |= {"SET", "CASCADE", "RESTRICT", "NO", "ACTION", "INITIALLY", "DEFERRED", "IMMEDIATE", "DEFERRABLE", "ASC"}
_HARMLESS |= {"CHECK", "COLLATE", "GENERATED", "ALWAYS", "AS", "STORED", "VIRTUAL", "AUTOINCREMENT", "FOREIGN"}


class _UnknownError(Exception):
    """The statement says something that has no form of its own."""


def sqlite_schema(records: sqlite3.Connection) -> Schema:
    """Everything but the records; our own table is none of it."""
    try:
        found = read_schema(records)
    except UnreadableError as error:
        raise ConflictError(error.message, code="database.refused", hint="Name fewer tables.") from error
    made = dict(records.execute("SELECT name, sql FROM sqlite_schema WHERE sql IS NOT NULL ORDER BY name"))
    schema = Schema()
    for name, table in found.tables.items():
        if name != DEPLOYMENTS:
            schema.tables[name] = _table(records, found, table, made[name])
    for names, kept in ((found.views, schema.views), (found.triggers, schema.triggers)):
        kept.update({name: made[name].strip() for name in names})
    return schema


def _table(records: sqlite3.Connection, found: Told, table: DatabaseTable, sql: str) -> Table:
    plain = Table(table.name, tuple(Column(c.name, c.type) for c in table.columns), table.key)
    if table.problem:
        return Table(plain.table, plain.columns, as_is=sql)
    try:
        said = _Statement(sql)
        result = _told(records, table, said)
    except _UnknownError:
        indexes = _indexes(records, table.name)
        return Table(plain.table, plain.columns, plain.key, indexes=indexes, as_is=sql)
    return result


def _told(records: sqlite3.Connection, table: DatabaseTable, said: _Statement) -> Table:
    columns = []
    for column in table.columns:
        own = said.columns.get(column.name.lower(), _Said())
        if column.generated and not own.generated:
            raise _UnknownError
        given = own.type if own.type.upper() == column.type else column.type
        columns.append(
            Column(
                column.name,
                given,
                column.required,
                None if column.generated else column.default,
                own.collation,
                own.generated,
                own.stored,
            )
        )
    references = _references(records, table.name, deferred=said.deferred)
    options = [*table.options.replace("WITHOUT ROWID", "WITHOUT_ROWID").split(), *said.options]
    return normal(
        Table(
            table.name,
            tuple(columns),
            table.key,
            _unique(records, table.name),
            references,
            tuple(said.checks),
            _indexes(records, table.name),
            tuple(o.replace("_", " ") for o in options),
        )
    )


def _unique(records: sqlite3.Connection, table: str) -> tuple[Unique, ...]:
    found = []
    for _, name, _, origin, _ in records.execute(f"PRAGMA index_list({quoted(table)})").fetchall():
        if origin == "u":
            rows = records.execute(f"PRAGMA index_info({quoted(name)})").fetchall()
            found.append(Unique(tuple(row[2] for row in rows)))
    return tuple(sorted(found, key=lambda u: u.columns))


def _references(records: sqlite3.Connection, table: str, *, deferred: bool) -> tuple[Reference, ...]:
    keys: dict[int, list[tuple[Any, ...]]] = {}
    for row in records.execute(f"PRAGMA foreign_key_list({quoted(table)})").fetchall():
        keys.setdefault(row[0], []).append(row)
    found = []
    for rows in keys.values():
        rows.sort(key=lambda r: r[1])
        there = tuple(r[4] for r in rows if r[4])
        update, delete = (("" if rows[0][n] == "NO ACTION" else rows[0][n]) for n in (5, 6))
        found.append(Reference(tuple(r[3] for r in rows), rows[0][2], there, delete, update, deferred))
    return tuple(sorted(found, key=lambda r: (r.columns, r.table)))


def _indexes(records: sqlite3.Connection, table: str) -> tuple[Index, ...]:
    listed = records.execute(
        "SELECT name, sql FROM sqlite_schema WHERE type = 'index' AND tbl_name = ? AND sql IS NOT NULL ORDER BY name",
        (table,),
    )
    return tuple(_index(name, sql) for name, sql in listed)


def _index(name: str, sql: str) -> Index:
    found = tokens(sql)
    at = next(n for n, t in enumerate(found) if t.text == "(")
    columns, end = _items(found, at)
    unique = any(t.word == "UNIQUE" for t in found[:3])
    rest = found[end + 1 :]
    where = without_comments(sql[rest[0].end :]) if rest and rest[0].word == "WHERE" else ""
    told = tuple(
        quoted(unquoted(i[0])) if len(i) == 1 else without_comments(sql[i[0].start : i[-1].end]) for i in columns
    )
    return Index(name, told, unique, where)


# --- the statement --------------------------------------------------------------------


def _items(found: list[Token], at: int) -> tuple[list[list[Token]], int]:
    """What stands between the bracket at ``at`` and its end, parted by commas; and where it ends."""
    items: list[list[Token]] = [[]]
    depth = 0
    for n in range(at, len(found)):
        token = found[n]
        if token.text == ")":
            depth -= 1
            if depth == 0:
                return [i for i in items if i], n
        if token.text == "," and depth == 1:
            items.append([])
        elif depth > 0:
            items[-1].append(token)
        if token.text == "(":
            depth += 1
    raise _UnknownError


@dataclass
class _Said:
    """What a column's part of the statement says beside what the database tells."""

    type: str = ""
    collation: str = ""
    generated: str = ""
    stored: bool = False


@dataclass
class _Statement:
    """A CREATE TABLE statement, read for what only it says."""

    sql: str
    columns: dict[str, _Said] = field(default_factory=dict)
    checks: list[Check] = field(default_factory=list)
    options: list[str] = field(default_factory=list)
    deferred: bool = False

    def __post_init__(self) -> None:
        found = tokens(self.sql)
        at = next((n for n, t in enumerate(found) if t.text == "("), None)
        if at is None:
            raise _UnknownError
        items, _ = _items(found, at)
        deferred = [self._item(item) for item in items]
        mentioned = [d for d in deferred if d is not None]
        if any(mentioned) and not all(mentioned):
            raise _UnknownError  # one foreign key waits for the end of the transaction and another does not
        self.deferred = any(mentioned)

    def _item(self, item: list[Token]) -> bool | None:
        """Take in a column or a condition; tells whether a foreign key in it is deferred, None if there is none."""
        if item[0].word in _TABLE_WORDS:
            rest, own = item, None
            named = rest[2] if rest[0].word == "CONSTRAINT" else rest[0]
            if named.word in ("PRIMARY", "UNIQUE") and any(t.word in ("DESC", "COLLATE") for t in rest):
                raise _UnknownError
        else:
            own = self.columns.setdefault(unquoted(item[0]).lower(), _Said())
            rest = self._type(item[1:], own)
        words = [t.word for t in rest]
        if "MATCH" in words or "CONFLICT" in words or ("DESC" in words and own is not None):
            raise _UnknownError
        self._clauses(rest, own)
        if "REFERENCES" not in words:
            return None
        return "DEFERRED" in words

    def _type(self, rest: list[Token], own: _Said) -> list[Token]:
        end = depth = 0
        while end < len(rest) and (depth or rest[end].word not in _HARMLESS):
            depth += {"(": 1, ")": -1}.get(rest[end].text, 0)
            end += 1
        if end:
            own.type = " ".join(without_comments(self.sql[rest[0].start : rest[end - 1].end]).split())
        return rest[end:]

    def _clauses(self, rest: list[Token], own: _Said | None) -> None:
        name, n = "", 0
        while n < len(rest):
            word = rest[n].word
            if word == "CONSTRAINT":
                name, n = unquoted(rest[n + 1]), n + 2
                continue
            if word in ("CHECK", "AS") and n + 1 < len(rest) and rest[n + 1].text == "(":
                end = _closing(rest, n + 1)
                inner = without_comments(self.sql[rest[n + 1].end : rest[end].start])
                if word == "CHECK":
                    self.checks.append(Check(inner, name))
                elif own is not None:
                    own.generated = inner
                n = end
            elif word == "COLLATE" and own is not None and n + 1 < len(rest):
                own.collation = unquoted(rest[n + 1])
                n += 1
            elif word == "STORED" and own is not None:
                own.stored = True
            elif word == "AUTOINCREMENT":
                self.options.append("AUTOINCREMENT")
            elif rest[n].text == "(":
                n = _closing(rest, n)
            n += 1


def _closing(found: list[Token], at: int) -> int:
    depth = 0
    for n in range(at, len(found)):
        depth += {"(": 1, ")": -1}.get(found[n].text, 0)
        if depth == 0:
            return n
    raise _UnknownError


# --- making one ---------------------------------------------------------------------------


def create_statement(table: Table, name: str = "") -> str:
    """The statement that makes ``table`` under ``name``."""
    if table.as_is:
        return table.as_is
    lines = list(_column_lines(table))
    alone = "AUTOINCREMENT" in table.options
    if table.key and not alone:
        lines.append(f"PRIMARY KEY ({listed(table.key)})")
    lines += [f"UNIQUE ({listed(u.columns)})" for u in table.unique]
    for check in table.checks:
        named = f"CONSTRAINT {quoted(check.name)} " if check.name else ""
        lines.append(f"{named}CHECK ({check.holds})")
    lines += [reference_line(r) for r in table.references]
    options = ", ".join(o for o in table.options if o != "AUTOINCREMENT")
    inner = ",\n  ".join(lines)
    return f"CREATE TABLE {quoted(name or table.table)} (\n  {inner}\n) {options}".rstrip()


def _column_lines(table: Table) -> Iterator[str]:
    for column in table.columns:
        line = column_line(column)
        if "AUTOINCREMENT" in table.options and table.key == (column.name,):
            line += " PRIMARY KEY AUTOINCREMENT"
        yield line


def column_line(column: Column) -> str:
    """A column as a statement declares it."""
    said = [quoted(column.name), column.type]
    if column.required:
        said.append("NOT NULL")
    if column.default is not None:
        literal = _LITERAL.match(column.default)
        said.append(f"DEFAULT {column.default}" if literal else f"DEFAULT ({column.default})")
    if column.collation:
        said.append(f"COLLATE {quoted(column.collation)}")
    if column.generated:
        said.append(f"GENERATED ALWAYS AS ({column.generated})" + (" STORED" if column.stored else ""))
    return " ".join(word for word in said if word)
