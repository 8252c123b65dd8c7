"""SQLite through its own connection.

Nothing but the file is touched. Triggers do not run while records are put there: they are taken away and made again in
the same transaction. A table that ``ALTER TABLE`` cannot bring to its new form is made anew beside the old one, as
https://www.sqlite.org/lang_altertable.html describes, with foreign keys looked at as a whole at the end.
"""

from __future__ import annotations

import contextlib
import os
import re
import sqlite3
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from urllib.parse import quote

from everyshelf.core.databases.engine import DEPLOYMENTS, Changes, Database, Row
from everyshelf.core.databases.plan import renamed_columns
from everyshelf.core.databases.schema import Column, Schema, Table
from everyshelf.core.databases.sqlite_schema import column_line, create_statement, sqlite_schema
from everyshelf.core.databases.statements import quoted
from everyshelf.core.databases.values import UnfitError, meant, told
from everyshelf.core.errors import ConflictError, EveryShelfError, OutOfReachError
from everyshelf.core.sharing import shared_mode
from everyshelf.core.tables.databases import foreign_collations, know_collations

_BUSY_SECONDS = 15.0
_BLANK = r"[ \t\n\v\f\r]*"  # what SQLite takes for a blank
_NUMBER = re.compile(rf"{_BLANK}[-+]?(\d+(\.\d*)?|\.\d+)(e[-+]?\d+)?{_BLANK}\Z", re.IGNORECASE | re.ASCII)
_MAKE_DEPLOYMENTS = f"""CREATE TABLE IF NOT EXISTS {DEPLOYMENTS} (
  number INTEGER PRIMARY KEY, key TEXT NOT NULL, put_at TEXT NOT NULL)"""


class SqliteDatabase(Database):
    """The database in one file, which is made when something is put there."""

    def __init__(self, file: Path, *, busy_seconds: float = _BUSY_SECONDS) -> None:
        self.file, self._busy_seconds = file, busy_seconds
        self._records: sqlite3.Connection | None = None

    @contextlib.contextmanager
    def _opened(self, *, making: bool = False) -> Iterator[sqlite3.Connection]:
        """The connection; errors of the database in our words."""
        with self._in_our_words():
            if self._records is None:
                self._records = self._connect(making=making)
            yield self._records

    @contextlib.contextmanager
    def _in_our_words(self) -> Iterator[None]:
        try:
            yield
        except sqlite3.OperationalError as error:
            if any(word in str(error) for word in ("locked", "busy", "unable to open", "disk I/O", "readonly", "full")):
                raise OutOfReachError(f"{self.file.name}: {error}", code="destination.failed") from error
            raise self._refused(error) from error
        except (sqlite3.Error, UnicodeError, OverflowError) as error:
            raise self._refused(error) from error

    def _refused(self, error: Exception) -> EveryShelfError:
        return ConflictError(
            f"{self.file.name} does not take it: {error}",
            code="database.refused",
            hint="Fix the records or the schema on the shelf, or what is in the way there; nothing was changed.",
        )

    def _connect(self, *, making: bool) -> sqlite3.Connection:
        if not making and not self.file.exists():
            records = sqlite3.connect(":memory:", isolation_level=None)
        else:
            if making and not self.file.exists():  # SQLite gives the files beside it the same rights
                with contextlib.suppress(FileExistsError):
                    os.close(os.open(self.file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o666))
                    os.chmod(self.file, shared_mode(0o666))
            address = f"file:{quote(str(self.file))}?mode={'rwc' if making else 'rw'}"
            records = sqlite3.connect(address, uri=True, isolation_level=None, timeout=self._busy_seconds)
        records.text_factory = lambda text: text.decode("utf-8", "surrogateescape")
        if not making:
            know_collations(records, self._foreign_collations())
        for setting in ("foreign_keys = OFF", "legacy_alter_table = ON", "synchronous = FULL"):
            records.execute(f"PRAGMA {setting}")
        return records

    def _foreign_collations(self) -> set[str]:
        if not self.file.exists():
            return set()
        address = f"file:{quote(str(self.file))}?mode=ro"
        with contextlib.closing(sqlite3.connect(address, uri=True, timeout=self._busy_seconds)) as scout:
            return foreign_collations(scout)

    def close(self) -> None:
        if self._records is not None:
            self._records.close()
            self._records = None

    @contextlib.contextmanager
    def reading(self) -> Iterator[None]:
        with self._opened() as records:
            if records.in_transaction:
                yield
                return
            records.execute("BEGIN")
            try:
                yield
            finally:
                records.execute("ROLLBACK")
        if not self.file.exists():
            self.close()  # there may be a file the next time

    def schema(self) -> Schema:
        with self._opened() as records:
            return sqlite_schema(records)

    def count(self, table: Table, *, filled: str = "") -> int:
        with self._opened() as records:
            what = quoted(filled) if filled else "*"
            return int(records.execute(f"SELECT count({what}) FROM {quoted(table.table)}").fetchone()[0])

    def rows(self, table: Table) -> Iterator[Row]:
        with self._opened() as records:
            yield from _rows(records, table)

    def current(self) -> str | None:
        with self._opened() as records:
            known = records.execute("SELECT 1 FROM sqlite_schema WHERE name = ?", (DEPLOYMENTS,)).fetchone()
            row = known and records.execute(f"SELECT key FROM {DEPLOYMENTS} ORDER BY number DESC LIMIT 1").fetchone()
        if not self.file.exists():
            self.close()
        return row[0] if row else None

    @contextlib.contextmanager
    def changing(self) -> Iterator[Changes]:
        self.close()
        try:
            with self._opened(making=True) as records:
                records.execute("BEGIN IMMEDIATE")
                try:
                    yield _SqliteChanges(records)
                    records.execute("COMMIT")
                except BaseException:
                    if records.in_transaction:
                        records.execute("ROLLBACK")
                    raise
        finally:
            self.close()

    def told_value(self, column: Column, value: Any) -> Any:
        """A value after the affinity of its column (https://www.sqlite.org/datatype3.html, 3)."""
        value = int(value) if isinstance(value, bool) else meant(value)
        kind = _affinity(column)
        if kind == "TEXT" and isinstance(value, int | float):
            return repr(value)
        if kind in ("INTEGER", "REAL", "NUMERIC") and isinstance(value, str) and _NUMBER.match(value):
            value = float(value) if re.search(r"[.e]", value, re.IGNORECASE) else int(value)
        if kind == "REAL" and isinstance(value, int):
            value = float(value)
        if kind in ("INTEGER", "NUMERIC") and isinstance(value, float) and value.is_integer() and abs(value) < 2**51:
            value = int(value)
        if isinstance(value, int) and not -(2**63) <= value < 2**63:
            raise UnfitError("it is not a whole number of 64 bits")
        return told(value)


def _affinity(column: Column) -> str:
    said = column.type.upper()
    for words, kind in (
        (("INT",), "INTEGER"),
        (("CHAR", "CLOB", "TEXT"), "TEXT"),
        (("BLOB",), "BLOB"),
        (("REAL", "FLOA", "DOUB"), "REAL"),
    ):
        if any(word in said for word in words):
            return kind
    return "NUMERIC" if said and said != "ANY" else "BLOB"


def _rows(records: sqlite3.Connection, table: Table) -> Iterator[Row]:
    names = table.filled
    if not names:
        return
    order = ", ".join(f"{quoted(n)} COLLATE BINARY" for n in table.key) or "1"
    if table.key and "WITHOUT ROWID" not in table.options and not all(table.by_name[n].required for n in table.key):
        order += ", rowid"  # keys that hold NULL may be the same
    wanted = ", ".join(map(quoted, names))
    for row in records.execute(f"SELECT {wanted} FROM {quoted(table.table)} ORDER BY {order}"):
        yield {name: told(value) for name, value in zip(names, row, strict=True)}


def _bound(value: Any) -> tuple[str, Any]:
    """How a value stands in a statement, and what is given for it."""
    if isinstance(value, dict) and "text" in value:
        return "CAST(? AS TEXT)", str(meant(value)).encode("utf-8", "surrogateescape")
    return "?", meant(value)


class _SqliteChanges(Changes):
    """What is done in one transaction of SQLite's."""

    def __init__(self, records: sqlite3.Connection) -> None:
        self._records = records

    def create(self, table: Table) -> None:
        self._records.execute(create_statement(table))

    def drop(self, table: Table) -> None:
        self._records.execute(f"DROP TABLE {quoted(table.table)}")

    def alter(self, old: Table, new: Table, *, refill: bool) -> None:
        added = _only_added(old, new, empty=self._is_empty(old))
        if added is None:
            self._make_anew(old, new, refill=refill)
            return
        for column in added:
            self._records.execute(f"ALTER TABLE {quoted(new.table)} ADD COLUMN {column_line(column)}")

    def _is_empty(self, table: Table) -> bool:
        return self._records.execute(f"SELECT 1 FROM {quoted(table.table)} LIMIT 1").fetchone() is None

    def _make_anew(self, old: Table, new: Table, *, refill: bool) -> None:
        beside = f"everyshelf_new_{new.table}"
        self._records.execute(create_statement(new, beside))
        renamed = renamed_columns(old, new)
        pairs = []
        for column in new.columns:
            was = old.by_name.get(renamed.get(column.name, column.name))
            if column.generated:
                continue
            if was is not None:
                pairs.append((quoted(column.name), quoted(was.name)))
            elif refill and column.required and column.default is None:
                pairs.append((quoted(column.name), _filler(column)))
        if pairs:
            columns, values = (", ".join(side) for side in zip(*pairs, strict=True))
            self._records.execute(f"INSERT INTO {quoted(beside)} ({columns}) SELECT {values} FROM {quoted(old.table)}")
        else:
            held = self._records.execute(f"SELECT count(*) FROM {quoted(old.table)}").fetchone()[0]
            for _ in range(held):
                self._records.execute(f"INSERT INTO {quoted(beside)} DEFAULT VALUES")
        counted = "AUTOINCREMENT" in old.options and "AUTOINCREMENT" in new.options
        last = (
            self._records.execute("SELECT seq FROM sqlite_sequence WHERE name = ?", (old.table,)) if counted else None
        )
        number = last.fetchone() if last is not None else None
        self._records.execute(f"DROP TABLE {quoted(old.table)}")
        self._records.execute(f"ALTER TABLE {quoted(beside)} RENAME TO {quoted(new.table)}")
        if number is not None:
            # Numbers that were given once are not given again.
            self._records.execute("DELETE FROM sqlite_sequence WHERE name = ?", (new.table,))
            self._records.execute("INSERT INTO sqlite_sequence (name, seq) VALUES (?, ?)", (new.table, number[0]))

    def constrain(self, old: Table, new: Table) -> None:
        """All conditions stand from the start here."""

    def run(self, statement: str) -> None:
        self._records.execute(statement)

    def forget(self, sort: str, name: str, table: str = "") -> None:
        self._records.execute(f"DROP {sort} IF EXISTS {quoted(name)}")

    def remove(self, table: Table, rows: Iterable[Row]) -> None:
        if not table.key:
            self._records.execute(f"DELETE FROM {quoted(table.table)}")
            return
        for row in rows:
            told_key = [_bound(row[name]) for name in table.key]
            where = " AND ".join(f"{quoted(n)} IS {mark}" for n, (mark, _) in zip(table.key, told_key, strict=True))
            self._records.execute(f"DELETE FROM {quoted(table.table)} WHERE {where}", [v for _, v in told_key])

    def put(self, table: Table, rows: Iterable[Row], *, replacing: bool) -> None:
        wanted = list(rows)
        if replacing:
            # All make room first, so that records may exchange what has to be unique.
            self.remove(table, wanted)
        for row in wanted:
            bound = {name: _bound(value) for name, value in row.items()}
            columns, marks = ", ".join(map(quoted, bound)), ", ".join(mark for mark, _ in bound.values())
            statement = f"INSERT INTO {quoted(table.table)} ({columns}) VALUES ({marks})"
            try:
                self._records.execute(statement, [value for _, value in bound.values()])
            except sqlite3.IntegrityError as error:
                key = ", ".join(str(row.get(n)) for n in table.key)
                raise sqlite3.IntegrityError(f"{error}, in the record {key} of {table.table}") from error

    def broken(self) -> list[str]:
        return sorted(
            f"a record of {table} names one of {parent} that is not there"
            for table, _, parent, _ in self._records.execute("PRAGMA foreign_key_check")
        )

    def record(self, key: str) -> None:
        self._records.execute(_MAKE_DEPLOYMENTS)
        now = datetime.now(UTC).isoformat(timespec="seconds")
        self._records.execute(f"INSERT INTO {DEPLOYMENTS} (key, put_at) VALUES (?, ?)", (key, now))


def _only_added(old: Table, new: Table, *, empty: bool) -> list[Column] | None:
    """The columns to be added at the end, if that and the indexes are all that differs; else None."""
    count = len(old.columns)
    if new.columns[:count] != old.columns:
        return None
    alike = ("key", "unique", "references", "checks", "options")
    if any(getattr(old, name) != getattr(new, name) for name in alike):
        return None
    added = list(new.columns[count:])
    for column in added:
        worked_out = column.default is not None and not re.match(r"[-+]?[\d.']", column.default)
        unfilled = column.required and column.default is None and not column.generated
        if column.stored or unfilled or (worked_out and not empty):
            return None
    return added


def _filler(column: Column) -> str:
    """A value that lasts until the record itself is put."""
    return {"TEXT": "''", "BLOB": "x''"}.get(_affinity(column), "0")
