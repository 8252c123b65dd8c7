"""What a statement names, without running it: one query that reads, over tables in quotes and lists of the shelf."""

from __future__ import annotations

import logging
from collections.abc import Mapping
from dataclasses import dataclass

from everyshelf.core.errors import InvalidError
from everyshelf.core.tables.engine import quoted

MOST_LETTERS = 20_000
MOST_TABLES = 20
MOST_SHOWN = 1_000  # rows of an answer
MOST_ROWS = 5_000_000  # rows that are written to a file
LISTS = ("commits", "artifacts", "versions", "findings", "runs")
_MADE_OF_NOTHING = ("Unnest", "GenerateSeries", "Explode")
_OF_THE_ENGINE = ("current_setting", "getenv", "getvariable")
_HINT = "Write one SELECT over artifacts in quotes, such as SELECT * FROM 'data/fares.csv@tag:spring-1'."


@dataclass(frozen=True)
class Named:
    """A table in a statement: what is written there, from which letter to which, and whether it needs an alias."""

    name: str
    start: int
    stop: int
    alias: str  # to be added, since the name itself is replaced; "" where the statement gives one
    is_list: bool


def named_in(sql: str) -> list[Named]:
    """The tables of a statement. Raises ``InvalidError`` for what is not one query that only reads."""
    import sqlglot
    from sqlglot import exp
    from sqlglot.errors import SqlglotError

    logging.getLogger("sqlglot").setLevel(logging.CRITICAL)
    if len(sql) > MOST_LETTERS:
        raise _refused(f"it is longer than {MOST_LETTERS:,} letters")
    try:
        statements = [one for one in sqlglot.parse(sql, dialect="duckdb") if one is not None]
    except (SqlglotError, RecursionError) as error:
        raise _refused(str(error).splitlines()[0] if str(error) else type(error).__name__) from error
    if len(statements) != 1:
        raise _refused(f"it holds {len(statements)} statements")
    statement = statements[0]
    if not isinstance(statement, exp.Query) or next(statement.find_all(exp.Into, exp.DDL, exp.DML), None) is not None:
        raise _refused("it is not a query that only reads")
    for call in statement.find_all(exp.Func):
        name = call.name if isinstance(call, exp.Anonymous) else call.sql_name()
        if name.lower() in _OF_THE_ENGINE:
            raise _refused(f"{name.lower()} tells of the engine, not of tables")
    found = [named for table in statement.find_all(exp.Table) if (named := _named(sql, table)) is not None]
    if len(found) > MOST_TABLES:
        raise _refused(f"it names {len(found)} tables; {MOST_TABLES} are possible")
    return sorted(found, key=lambda one: one.start)


def _own_names(table: object) -> set[str]:
    """The names that the query itself gives to parts of it (``WITH``), as far as they are known where a table is named.
    Elsewhere the same name would be one of the engine's."""
    from sqlglot import exp

    found: set[str] = set()
    below, above = table, getattr(table, "parent", None)
    while above is not None:
        clause = next((part for part in above.args.values() if isinstance(part, exp.With)), None)
        for one in clause.expressions if clause is not None and clause is not below else ():
            found.add(one.alias_or_name.lower())
        if isinstance(above, exp.With):
            for one in above.expressions:
                is_itself = one is below
                if not is_itself or above.args.get("recursive"):
                    found.add(one.alias_or_name.lower())
                if is_itself:
                    break
        below, above = above, above.parent
    return found


def _named(sql: str, table: object) -> Named | None:
    from sqlglot import exp

    assert isinstance(table, exp.Table)
    this = table.this
    if not isinstance(this, exp.Identifier):
        if type(this).__name__ in _MADE_OF_NOTHING:
            return None
        raise _refused(f"{table.sql(dialect='duckdb')[:60]} cannot be read from: only artifacts and lists can")
    if table.db:
        raise _refused(f"{table.sql(dialect='duckdb')[:60]} is not a table here; put the path of an artifact in quotes")
    if sql[this.meta["start"]] != "'" and this.name.lower() in _own_names(table):
        return None  # a part of the query itself, perhaps in "quotes"
    is_list = not this.quoted and this.name.lower() in LISTS
    if not this.quoted and not is_list:
        raise InvalidError(
            f"{this.name!r} is not a table here",
            code="query.table",
            hint=f"Put the path of an artifact in quotes: 'data/fares.csv'. Lists of the shelf: {', '.join(LISTS)}.",
        )
    name = this.name.lower() if is_list else this.name
    alias = "" if table.alias else name if is_list else _stem(name)
    return Named(name, this.meta["start"], this.meta["end"] + 1, alias, is_list)


def _stem(name: str) -> str:
    """What columns may be led by without an alias: *fares* for ``data/fares.csv@tag:spring-1``."""
    return name.partition("@")[0].rpartition("#")[2].rpartition("/")[2].partition(".")[0] or "t"


def with_views(sql: str, named: list[Named], views: Mapping[str, str]) -> str:
    """The statement with each table's name replaced by that of its view; all else stays as it was written."""
    parts, at = [], 0
    for one in named:
        parts += [sql[at : one.start], quoted(views[one.name]), f" AS {quoted(one.alias)}" if one.alias else ""]
        at = one.stop
    return "".join([*parts, sql[at:]])


def _refused(why: str) -> InvalidError:
    return InvalidError(f"this cannot be run as a query: {why}", code="query.statement", hint=_HINT)
