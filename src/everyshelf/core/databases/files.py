"""The files a database becomes on the shelf: tables as JSON, one column a line; records as JSON, one a line.

A record tells its columns in the order of the table. One that is NULL is left out where it has no default; read back,
a column that is not told has the value its default spells, else NULL.
"""

from __future__ import annotations

import itertools
import json
import re
from collections.abc import Callable, Iterable, Iterator
from typing import Any

import msgspec
import orjson

from everyshelf.core.databases.engine import Row
from everyshelf.core.databases.schema import Column, Table
from everyshelf.core.databases.tokens import is_several, leaves_its_place
from everyshelf.core.databases.values import UnfitError, meant
from everyshelf.core.errors import InvalidError
from everyshelf.decoding import converted

TABLE_FORM = "database table 1"
RECORDS_FORM = "database records 1"
KEYED, LINES = ".json", ".jsonl"
# More records than this are told as lines, which are read and merged as a table.
MOST_KEYED = 1_000
_WHOLE = re.compile(r"-?(0|[1-9]\d*)\Z")
_NUMBER = re.compile(r"[-+]?(\d+\.?\d*|\.\d+)(e[-+]?\d+)?\Z", re.IGNORECASE)
_QUOTED = re.compile(r"'((?:[^']|'')*)'\Z")
_ACTIONS = {"", "CASCADE", "RESTRICT", "SET NULL", "SET DEFAULT", "NO ACTION"}
_OPTIONS = ("AUTOINCREMENT", "STRICT", "WITHOUT ROWID")
NOT_TOLD = object()
# A value as the database would tell it; raises ``ValueError`` for what it cannot hold.
Told = Callable[[Column, Any], Any]


# --- tables -----------------------------------------------------------------------


def table_file(table: Table) -> bytes:
    """A table's schema as it lies on the shelf."""
    lines = []
    for name, value in {"form": TABLE_FORM, **msgspec.to_builtins(table)}.items():
        if isinstance(value, list | tuple) and value and isinstance(value[0], dict):
            inner = ",\n".join(f"    {_json(item)}" for item in value)
            lines.append(f"  {_json(name)}: [\n{inner}\n  ]")
        else:
            lines.append(f"  {_json(name)}: {_json(value)}")
    return ("{\n" + ",\n".join(lines) + "\n}\n").encode()


def read_table(path: str, data: bytes) -> Table:
    """The table a file tells of; raises ``InvalidError`` (database.file)."""
    try:
        told = orjson.loads(data)
        if not isinstance(told, dict) or told.pop("form", None) != TABLE_FORM:
            raise ValueError(f'it does not begin with "form": "{TABLE_FORM}"')
        table = converted(told, Table)
    except (ValueError, msgspec.ValidationError) as error:
        raise wrong(path, str(error)) from error
    _check(path, table)
    return table


def _check(path: str, table: Table) -> None:
    names = [c.name for c in table.columns]
    lowered = [n.lower() for n in names]
    if twice := next((n for n in names if lowered.count(n.lower()) > 1), None):
        raise wrong(path, f"the column {twice} stands there twice")
    if not table.table.strip() or not all(n.strip() for n in names):
        raise wrong(path, "a name is missing")
    known = set(names)
    groups = [("key", table.key), *(("unique", u.columns) for u in table.unique)]
    groups += [("references", r.columns) for r in table.references]
    for what, columns in groups:
        if strange := next((c for c in columns if c not in known), None):
            raise wrong(path, f"{what} names the column {strange}, which is not there")
    for where, part in _parts(table):
        if leaves_its_place(part):
            raise wrong(path, f"{where} says what is not part of a statement")
    if not {act for r in table.references for act in (r.on_delete, r.on_update)} <= _ACTIONS:
        raise wrong(path, f"what a foreign key does is one of {', '.join(sorted(filter(None, _ACTIONS)))}")
    if not set(table.options) <= set(_OPTIONS):
        raise wrong(path, f"an option is one of {', '.join(_OPTIONS)}")
    if table.as_is and not table.as_is.startswith("--") and is_several(table.as_is):
        raise wrong(path, "it makes more than a table")


def _parts(table: Table) -> Iterator[tuple[str, str]]:
    """What stands in the statement of a table as it is told, and where it is told."""
    for column in table.columns:
        for part in (column.type, column.collation, column.generated, column.default or ""):
            yield f"the column {column.name}", part
    yield from (("a check", check.holds) for check in table.checks)
    for index in table.indexes:
        yield from ((f"the index {index.name}", part) for part in (*index.columns, index.where))


def wrong(path: str, why: str) -> InvalidError:
    """The error for a file that cannot be put into a database."""
    return InvalidError(f"{path}: {why}", code="database.file", hint="Fix the file, commit, and tag again.")


def _json(value: Any) -> str:
    return json.dumps(value, ensure_ascii=False)


# --- records ------------------------------------------------------------------------


def records_file(table: Table, rows: Iterable[Row], suffix: str) -> Iterator[bytes]:
    """The records of a table as they lie on the shelf, in pieces; ``rows`` come in the order of the key."""
    told = _leaving_out(table)
    if suffix == LINES:
        lines: Iterable[bytes] = (_json(told(row)).encode() + b"\n" for row in rows)
        yield from lines if table.key else sorted(lines)
        return
    head = {"form": RECORDS_FORM, "table": table.table, "key": list(table.key)}
    inner = ",\n".join(f"  {_json(name)}: {_json(value)}" for name, value in head.items())
    yield f'{{\n{inner},\n  "records": {{'.encode()
    between = "\n"
    for row in rows:
        rest = {name: value for name, value in told(row).items() if name not in table.key}
        yield f"{between}    {_json(key_text(table, row))}: {_json(rest)}".encode()
        between = ",\n"
    yield b"\n  }\n}\n" if between != "\n" else b"}\n}\n"


def _leaving_out(table: Table) -> Any:
    names = table.filled
    always = {c.name for c in table.columns if c.default is not None} | set(table.key)

    def told(row: Row) -> Row:
        return {n: row.get(n) for n in names if n in always or row.get(n) is not None}

    return told


def read_records(path: str, data: bytes, table: Table, suffix: str, told: Told) -> Iterator[Row]:
    """The records a file tells of, every column told, in the order in which they stand; raises ``InvalidError``."""
    complete = _completing(path, table, told)
    if suffix == KEYED:
        yield from (complete(row, f"record {key!r}") for key, row in _keyed(path, data, table))
        return
    for number, line in enumerate(data.splitlines(), 1):
        if not line.strip():
            continue
        try:
            row = orjson.loads(line)
        except orjson.JSONDecodeError as error:
            raise wrong(path, f"line {number} is not JSON: {error}") from error
        if not isinstance(row, dict):
            raise wrong(path, f"line {number} is not a record: {{column: value}}")
        yield complete(row, f"line {number}")


def _keyed(path: str, data: bytes, table: Table) -> Iterator[tuple[str, Row]]:
    try:
        told = json.loads(data, object_pairs_hook=_once)
    except (ValueError, RecursionError) as error:
        raise wrong(path, f"no JSON: {error}") from error
    records = told.get("records") if isinstance(told, dict) else None
    if not isinstance(records, dict) or told.get("form") != RECORDS_FORM:
        raise wrong(path, f'it is not {{"form": "{RECORDS_FORM}", …, "records": {{…}}}}')
    if not table.key:
        raise wrong(path, f"{table.table} has no key: tell its records in a file ending in {LINES}")
    if told.get("key", list(table.key)) != list(table.key):
        raise wrong(path, f"its key is {told['key']}, and that of the table {list(table.key)}")
    for text, row in records.items():
        if not isinstance(row, dict):
            raise wrong(path, f"record {text!r} is not a record: {{column: value}}")
        yield text, {**_key_values(path, table, text), **row}


def _once(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    found: dict[str, Any] = {}
    for name, value in pairs:
        if name in found:
            raise ValueError(f"{name!r} stands there twice")
        found[name] = value
    return found


def key_text(table: Table, row: Row) -> str:
    """How a record is called: the value of its key, or all of them as a JSON list where that would not be clear."""
    values = [row.get(name) for name in table.key]
    if len(values) == 1:
        value, whole = values[0], _is_whole(table.by_name[table.key[0]])
        if isinstance(value, int) and not isinstance(value, bool) and whole:
            return str(value)
        if isinstance(value, str) and not value.startswith("[") and not (whole and _WHOLE.match(value)):
            return value
    return _json(values)


def _key_values(path: str, table: Table, text: str) -> Row:
    if text.startswith("["):
        try:
            values = json.loads(text)
        except ValueError as error:
            raise wrong(path, f"the key {text!r} is not JSON list") from error
    else:
        whole = _is_whole(table.by_name[table.key[0]]) and _WHOLE.match(text)
        values = [int(text) if whole else text]
    if len(values) != len(table.key):
        raise wrong(path, f"the key {text!r} has {len(values)} values, and the table's has {len(table.key)}")
    return dict(zip(table.key, values, strict=True))


def _is_whole(column: Column) -> bool:
    return "INT" in column.type.upper()


def _completing(path: str, table: Table, told: Told) -> Callable[[Row, str], Row]:
    """What is not told is what the default spells, else NULL."""
    columns = [c for c in table.columns if not c.generated]
    known, spelled = {c.name for c in columns}, {c.name: default_value(c) for c in columns}

    def complete(row: Row, where: str) -> Row:
        if strange := row.keys() - known:
            raise wrong(path, f"{where}: {table.table} has no column {sorted(strange)[0]!r}")
        found = {}
        for column in columns:
            name = column.name
            value = row[name] if name in row else spelled[name]
            if value is NOT_TOLD:
                raise wrong(path, f"{where}: say the value of {name}: its default is worked out when it is put there")
            try:
                found[name] = told(column, value) if value is not None else None
            except ValueError as error:
                said = error if isinstance(error, UnfitError) else f"it is no {column.type or 'value'}"
                raise wrong(path, f"{where}, {name}: {said}") from error
        return found

    return complete


def default_value(column: Column) -> Any:
    """What a default spells; None for none, ``NOT_TOLD`` for one that is worked out."""
    text = (column.default or "").strip()
    while text.startswith("(") and text.endswith(")"):
        text = text[1:-1].strip()
    text = text.partition("::")[0]  # PostgreSQL tells the type as well
    if not text or text.upper() == "NULL":
        return None
    if _NUMBER.match(text):
        return int(text) if _WHOLE.match(text.lstrip("+")) else float(text)
    if found := _QUOTED.match(text):
        return found[1].replace("''", "'")
    if text.upper() in ("TRUE", "FALSE"):
        return text.upper() == "TRUE" if "BOOL" in column.type.upper() else int(text.upper() == "TRUE")
    return NOT_TOLD


# --- the order of records ----------------------------------------------------------------


def row_key(table: Table, row: Row) -> tuple[Any, ...]:
    """What tells a record from others, and orders it: numbers before texts before bytes, as SQLite orders them."""
    return tuple(_rank(row.get(name)) for name in table.key or table.filled)


def _rank(value: Any) -> tuple[int, Any]:
    if isinstance(value, dict):
        value = meant(value)
    if value is None:
        return (0, 0)
    if isinstance(value, int | float):
        return (1, value)
    return (2, value) if isinstance(value, str) else (3, value)


def is_named(table: Table, row: Row) -> bool:
    """Whether its key names a record: one that holds NULL names none, and may stand there many times."""
    return all(row.get(name) is not None for name in table.key)


def in_order(table: Table, rows: Iterable[Row]) -> Iterator[Row]:
    """The records in the order of the key."""
    if not table.key:
        yield from rows
        return
    yield from sorted(rows, key=lambda row: row_key(table, row))


def kept_form(path: str, data: bytes, table: Table, suffix: str, told: Told) -> Iterator[bytes]:
    """A file of records as it would be told once they are in a database."""
    rows = list(in_order(table, read_records(path, data, table, suffix, told)))
    if table.key:
        for one, other in itertools.pairwise(rows):
            if row_key(table, one) == row_key(table, other) and is_named(table, one):
                raise wrong(path, f"the key {key_text(table, one)} stands there twice")
    yield from records_file(table, rows, suffix)
