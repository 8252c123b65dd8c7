"""SQL followed: the tables statements read and write, the columns of each, and which column becomes which.

Select lists, joins, aliases, subqueries and common table expressions are followed to the tables they come from. A
column without the name of its table that could be of several is taken to be of each, as a guess.
"""

from __future__ import annotations

import logging
import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from everyshelf.core.answers.uses import Flow, Reference, UsedPart

_DIALECTS = ("", "postgres", "duckdb", "sqlite", "mysql", "tsql", "oracle", "snowflake", "bigquery")
_READ_FILE = re.compile(r"^(read_\w+|scan_\w+|\w+_scan)$", re.IGNORECASE)
_MOST_TEXT = 200_000
_MANY_DIALECTS = 20_000  # characters up to which all dialects are tried
_MOST_DEEP = 100
ANY = "*"
_KEPT = "everyshelf_outputs"


@dataclass(frozen=True)
class Column:
    """A column of a table as statements name it; ``exact`` unless it could be of several tables."""

    table: str
    name: str
    exact: bool = True


@dataclass
class Followed:
    """What statements read, write and pass on: columns by table, tables that are made, and what becomes what.

    ``gives``: what queries that make nothing give whoever asks. ``read``: False for a text that no dialect reads, or
    that is too long."""

    reads: dict[str, set[Column]] = field(default_factory=dict)
    writes: list[str] = field(default_factory=list)
    flows: list[tuple[Column, str, str]] = field(default_factory=list)
    gives: list[tuple[Column, str]] = field(default_factory=list)
    read: bool = True

    def note(self, column: Column) -> None:
        """Note that a column is read."""
        self.reads.setdefault(column.table, set()).add(column)


def looks_like_sql(text: str) -> bool:
    """Whether a text may be a statement that reads or makes a table: cheap, before it is parsed."""
    return bool(_STATEMENT.match(text)) and bool(_FROM.search(text))


_STATEMENT = re.compile(
    r"\s*(--[^\n]*\n\s*)*(\(?\s*select|with|insert|create|update|delete|merge|copy)\b", re.IGNORECASE
)
_FROM = re.compile(r"\b(from|into|table|view|update|copy)\b", re.IGNORECASE)


def follow(text: str) -> Followed:
    """What the statements of a text read, write and pass on; nothing of what no dialect reads."""
    found = Followed()
    statements = _statements(_without_templates(text)) if len(text) <= _MOST_TEXT else None
    found.read = statements is not None
    for statement in statements or ():
        try:
            _statement(statement, found)
        except (RecursionError, KeyError, ValueError, AttributeError):
            continue  # a form the parser gives no scopes for; its words are looked at all the same
    _through_own_tables(found)
    return found


def _without_templates(text: str) -> str:
    """A text whose places for values are filled: by the last name in quotes inside, or else by a made-up one."""
    if "{" not in text:
        return text
    text = re.sub(r"\{%.*?%\}|\{#.*?#\}", " ", text, flags=re.DOTALL)

    def name(match: re.Match[str]) -> str:
        quoted = re.findall(r"['\"]([\w.]+)['\"]", match[0])
        return quoted[-1] if quoted else "placeholder"

    return re.sub(r"\{\{.*?\}\}|\$\{[^}]*\}|(?<![\w'\"])\{\w+\}", name, text, flags=re.DOTALL)


def sql_references(path: str, label: str, text: str) -> tuple[list[Reference], list[Flow], bool]:
    """The tables a text names as references from one place, what flows through them, and whether it could be read."""
    found = follow(text)
    references = []
    for table, columns in found.reads.items():
        if table not in found.writes:
            parts = tuple(
                UsedPart(c.name, "column", path, label, c.exact and c.name != ANY)
                for c in sorted(columns, key=lambda c: (c.name, not c.exact))
            )
            references.append(Reference(table, path, label, False, _what(table), parts=parts))
    references += [
        Reference(table, path, label, False, _what(table), writes=True) for table in dict.fromkeys(found.writes)
    ]
    flows = [Flow(column.table, column.name, target, name) for column, target, name in found.flows]
    return references, list(dict.fromkeys(flows)), found.read


def _what(table: str) -> Any:
    return "file" if re.search(r"\.\w+$", table) and ("/" in table or _DATA_FILE.search(table)) else "table"


_DATA_FILE = re.compile(r"\.(csv|tsv|parquet|jsonl?|arrow|feather|xlsx|db|sqlite3?)(\.\w+)?$", re.IGNORECASE)


def _statements(text: str) -> list[Any] | None:
    import sqlglot
    from sqlglot.errors import SqlglotError

    logging.getLogger("sqlglot").setLevel(logging.CRITICAL)  # it warns about what it keeps as text; that is fine here
    for dialect in _DIALECTS if len(text) <= _MANY_DIALECTS else _DIALECTS[:2]:
        try:
            return [one for one in sqlglot.parse(text, dialect=dialect) if one is not None]
        except (SqlglotError, RecursionError, ValueError):
            continue
    return None


def _statement(statement: Any, found: Followed) -> None:
    from sqlglot import exp

    target, names = _target(statement)
    if target:
        found.writes.append(target)
    query = statement if isinstance(statement, exp.Query) else statement.args.get("expression")
    if isinstance(statement, exp.Copy):
        query = statement.this.this if isinstance(statement.this, exp.Subquery) else None
    if isinstance(query, exp.Subquery):
        query = query.unnest()
    if isinstance(query, exp.Query):
        _query(query, found, target, names)
    elif isinstance(statement, exp.Update | exp.Delete | exp.Merge):
        _change(statement, found)


def _target(statement: Any) -> tuple[str, list[str]]:
    """What a statement makes or fills, and the names of the columns it is given."""
    from sqlglot import exp

    if isinstance(statement, exp.Copy):
        files = statement.args.get("files") or []
        return (files[0].name, []) if files and not statement.args.get("kind") else ("", [])
    if not isinstance(statement, exp.Create | exp.Insert):
        return "", []
    if isinstance(statement, exp.Create) and str(statement.args.get("kind", "")).upper() not in ("TABLE", "VIEW"):
        return "", []
    made = statement.this
    names = [c.name for c in made.expressions] if isinstance(made, exp.Schema) else []
    table = made.this if isinstance(made, exp.Schema) else made
    return (_table(table), names) if isinstance(table, exp.Table) else ("", [])


def _table(table: Any) -> str:
    """The name of a table as others would write it; the path where a file is read as one."""
    from sqlglot import exp

    called = table.this
    if isinstance(called, exp.Func | exp.Anonymous):
        literal = next((one for one in called.find_all(exp.Literal) if one.is_string), None)
        name = called.name if isinstance(called, exp.Anonymous) else called.sql_name()
        return str(literal.this) if literal is not None and _READ_FILE.match(name.lower()) else ""
    return ".".join(part for part in (table.db, table.name) if part)


def _query(query: Any, found: Followed, target: str, names: list[str]) -> None:
    from sqlglot.optimizer.scope import build_scope

    scope = build_scope(query)
    if scope is None:
        return
    for one in scope.traverse():
        for source in one.sources.values():
            if _is_table(source) and (table := _table(source)):
                found.reads.setdefault(table, set())
        aliases = {s.alias for s in getattr(one.expression, "selects", []) if s.alias}
        for column in one.columns:
            if not column.table and column.name in aliases and not _in_selects(column, one.expression):
                continue  # the name a select list gives, in its ORDER BY or HAVING
            for origin in _resolve(one, column, 0):
                found.note(origin)
        if _has_star(one):
            for origin in _all_of(one, 0):
                found.note(origin)
    for place, (name, origins) in enumerate(_outputs(scope, 0)):
        given = names[place] if place < len(names) and name != ANY else name
        if target:
            found.flows += [(origin, target, given) for origin in origins]
        else:
            found.gives += [(origin, given) for origin in origins]


def _is_table(source: Any) -> bool:
    from sqlglot import exp

    return isinstance(source, exp.Table)


def _in_selects(column: Any, select: Any) -> bool:
    return any(column.find_ancestor(type(one)) is one or column is one for one in select.selects)


def _has_star(scope: Any) -> bool:
    return any(one.is_star for one in getattr(scope.expression, "selects", []))


def _all_of(scope: Any, depth: int) -> Iterator[Column]:
    """All columns of the tables a scope selects from with a star."""
    for star in (one for one in scope.expression.selects if one.is_star):
        only = getattr(star, "table", "")
        for name, source in scope.sources.items():
            if only and name != only:
                continue
            if _is_table(source):
                if table := _table(source):
                    yield Column(table, ANY, exact=False)
            elif depth < _MOST_DEEP:
                yield from dict.fromkeys(origin for _, origins in _outputs(source, depth + 1) for origin in origins)


def _resolve(scope: Any, column: Any, depth: int) -> list[Column]:
    """The columns of tables that a column of a scope stands for."""
    if depth > _MOST_DEEP:
        return []
    if column.table:
        source = scope.sources.get(column.table)
        return _of_source(source, column.name, exact=True, depth=depth) if source is not None else []
    sources = {name: source for name, (_, source) in scope.selected_sources.items()}
    if len(sources) == 1:
        return _of_source(next(iter(sources.values())), column.name, exact=True, depth=depth)
    queries = [one for one in sources.values() if not _is_table(one)]
    of_queries = [one for one in queries if any(name == column.name for name, _ in _outputs(one, depth + 1))]
    if of_queries:
        return [c for one in of_queries for c in _of_source(one, column.name, exact=True, depth=depth)]
    tables = [one for one in sources.values() if _is_table(one)]
    return [c for one in tables for c in _of_source(one, column.name, exact=len(tables) == 1, depth=depth)]


def _of_source(source: Any, name: str, *, exact: bool, depth: int) -> list[Column]:
    if _is_table(source):
        table = _table(source)
        return [Column(table, name, exact)] if table else []
    found = []
    for given, origins in _outputs(source, depth + 1):
        if given == name:
            found += [Column(o.table, o.name, exact and o.exact) for o in origins]
        elif given == ANY:
            found += [Column(o.table, name if o.name == ANY else o.name, False) for o in origins]
    return found


def _outputs(scope: Any, depth: int) -> list[tuple[str, list[Column]]]:
    """What a query gives, in order: the name of each column and what it is worked out from.

    Kept with the query: chains of queries that take all of one another would else be worked out again and again.
    """
    known: list[tuple[str, list[Column]]] | None = getattr(scope, _KEPT, None)
    if known is None:
        setattr(scope, _KEPT, [])  # what a query asks of itself, as a recursive one does
        known = _work_out(scope, depth) if depth <= _MOST_DEEP else []
        setattr(scope, _KEPT, known)
    return known


def _work_out(scope: Any, depth: int) -> list[tuple[str, list[Column]]]:
    from sqlglot import exp

    if isinstance(scope.expression, exp.SetOperation):
        sides = [_outputs(side, depth + 1) for side in scope.union_scopes or []]
        first = sides[0] if sides else []
        return [
            (name, [*origins, *(o for side in sides[1:] if k < len(side) for o in side[k][1])])
            for k, (name, origins) in enumerate(first)
        ]
    found: list[tuple[str, list[Column]]] = []
    for one in getattr(scope.expression, "selects", []):
        if one.is_star:
            found.append((ANY, list(_all_of(scope, depth))))
            continue
        columns = [one] if isinstance(one, exp.Column) else list(one.find_all(exp.Column))
        origins = [origin for column in columns for origin in _resolve(_scope_of(scope, column), column, depth)]
        found.append((one.alias_or_name, list(dict.fromkeys(origins))))
    return found


def _scope_of(scope: Any, column: Any) -> Any:
    """The scope a column stands in: that of a subquery inside a select list, or ``scope`` itself."""
    for inner in scope.subquery_scopes:
        if any(one is column for one in inner.columns):
            return inner
    return scope


def _change(statement: Any, found: Followed) -> None:
    """UPDATE, DELETE and MERGE: the columns they name, of the one table, or as guesses of each."""
    from sqlglot import exp

    tables = {t.alias_or_name: name for t in statement.find_all(exp.Table) if (name := _table(t))}
    for name in tables.values():
        found.reads.setdefault(name, set())
    for column in statement.find_all(exp.Column):
        if column.table in tables:
            found.note(Column(tables[column.table], column.name))
        elif not column.table:
            for name in tables.values():
                found.note(Column(name, column.name, len(tables) == 1))


def _through_own_tables(found: Followed) -> None:
    """What is read of a table that the same text made is read of what that was made from."""
    made: dict[tuple[str, str], list[Column]] = {}
    for column, target, name in found.flows:
        made.setdefault((target, name), []).append(column)
    for table in [t for t in found.reads if t in found.writes]:
        for column in list(found.reads[table]):
            for origin in _origins(column, made, 0):
                found.note(origin)
    found.flows += [
        (origin, target, name)
        for column, target, name in list(found.flows)
        if column.table in found.writes
        for origin in _origins(column, made, 0)
    ]


def _origins(column: Column, made: dict[tuple[str, str], list[Column]], depth: int) -> list[Column]:
    if depth > _MOST_DEEP:
        return []
    found = []
    for origin in made.get((column.table, column.name), []) + made.get((column.table, ANY), []):
        one = Column(origin.table, column.name if origin.name == ANY else origin.name, origin.exact and column.exact)
        found += [one, *_origins(one, made, depth + 1)] if one != column else [one]
    return found
