"""Unfolding and folding SQLite files: each table becomes a file, a JSON object a line; the database is the frame.

A database nobody touched is the same bytes again. Edited rows go into a copy of it by their key (or row number), all
together or not at all; triggers do not run for that. The schema is there to be read.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import sqlite3
from collections.abc import Iterator
from typing import Any

from everyshelf.core.databases.values import meant, told
from everyshelf.core.errors import InvalidError, UnreadableError
from everyshelf.core.tables.databases import DatabaseTable, read_schema
from everyshelf.core.unfolding.model import MANIFEST, Manifest, Names, Piece

MAGIC = b"SQLite format 3\0"
_MOST_BYTES = 100 * 1024 * 1024
_MOST_ROWS = 500_000
_FRAME = "fold/frame.sqlite"
_SCHEMA = "schema.sql"
_NUMBERS = ("rowid", "_rowid_", "oid")
_MODES = slice(18, 20)  # bytes that say whether a log file belongs to the database (file format, 1.3.3)

Row = dict[str, Any]


def unfold_database(name: str, data: bytes, kind: str) -> tuple[Manifest, dict[str, bytes], list[str]]:
    """The manifest, all files and notes; raises ``UnreadableError``."""
    if len(data) > _MOST_BYTES:
        raise UnreadableError(f"it is larger than {_MOST_BYTES >> 20} MB")
    files: dict[str, bytes] = {_FRAME: data}
    pieces: dict[str, Piece] = {}
    tables: dict[str, str] = {}
    notes: list[str] = []
    names = Names()
    left = _MOST_ROWS
    try:
        with _copy(data) as records:
            files[_SCHEMA] = _schema(records)
            for table in read_schema(records).tables.values():
                if table.problem:
                    notes.append(f"{table.name} stays folded: {table.problem}")
                    continue
                lines = [_line(row) for row in _rows(records, table)]
                left -= len(lines)
                if left < 0:
                    raise UnreadableError(f"it holds more than {_MOST_ROWS:,} rows")
                file = names.make("tables/", table.name, ".jsonl")
                files[file] = b"".join(lines)
                pieces[file] = Piece("rows", hashlib.sha256(files[file]).hexdigest())
                tables[file] = table.name
    except sqlite3.Error as error:
        raise UnreadableError(f"it is damaged: {error}") from error
    return Manifest(name, kind, "sqlite", _FRAME, "", "", pieces, details={"tables": tables}), files, notes


def fold_database(manifest: Manifest, files: dict[str, bytes]) -> tuple[bytes, list[str]]:
    """The database's bytes and notes; raises ``InvalidError`` where rows cannot go in."""
    frame = files.get(manifest.frame)
    if frame is None or not frame.startswith(MAGIC):
        raise InvalidError(f"{manifest.frame} is missing", code="fold.missing", hint="Unfold the file again.")
    known = {manifest.frame, _SCHEMA, MANIFEST, *manifest.pieces}
    notes = [f"{file} is no table and was left out" for file in sorted(files) if file not in known]
    edited = []
    for file, piece in manifest.pieces.items():
        if file not in files:
            hint = "To remove all rows, leave an empty file."
            raise InvalidError(f"{file} is missing", code="fold.missing", hint=hint)
        if hashlib.sha256(files[file]).hexdigest() != piece.sha256:
            edited.append(file)
    if not edited:
        return frame, notes
    try:
        with _copy(frame) as records:
            _put_in(records, {str(manifest.details["tables"][file]): (file, files[file]) for file in edited})
            data = bytearray(records.serialize())
    except sqlite3.Error as error:
        raise _refused("the database", str(error)) from error
    data[_MODES] = frame[_MODES]
    return bytes(data), notes


@contextlib.contextmanager
def _copy(data: bytes) -> Iterator[sqlite3.Connection]:
    """The database in memory, with nothing of the file's own trusted."""
    plain = bytearray(data)
    plain[_MODES] = b"\1\1"  # a copy in memory has no log beside it
    with contextlib.closing(sqlite3.connect(":memory:", isolation_level=None)) as records:
        records.deserialize(bytes(plain))
        records.text_factory = lambda text: text.decode("utf-8", "surrogateescape")
        for setting in ("trusted_schema = OFF", "cell_size_check = ON", "foreign_keys = OFF"):
            records.execute(f"PRAGMA {setting}")
        yield records


def _schema(records: sqlite3.Connection) -> bytes:
    listed = records.execute("SELECT sql FROM sqlite_schema WHERE sql IS NOT NULL ORDER BY rootpage = 0, name")
    return "".join(f"{sql.strip()};\n" for (sql,) in listed).encode("utf-8", "surrogateescape")


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _columns(table: DatabaseTable) -> list[str]:
    return [c.name for c in table.columns if not c.generated]


def _number(table: DatabaseTable) -> str:
    """What the number of a row is called where no key tells rows apart."""
    if table.key:
        return ""
    taken = {c.name.lower() for c in table.columns}
    return next((word for word in _NUMBERS if word not in taken), "")


def _rows(records: sqlite3.Connection, table: DatabaseTable) -> Iterator[Row]:
    number = _number(table)
    names = [*([number] if number else []), *_columns(table)]
    order = ", ".join(map(_quoted, table.key)) or number or "1"
    wanted = ", ".join(_quoted(name) for name in names)
    for row in records.execute(f"SELECT {wanted} FROM {_quoted(table.name)} ORDER BY {order}"):
        yield {name: told(value) for name, value in zip(names, row, strict=True)}


def _line(row: Row) -> bytes:
    return json.dumps(row, ensure_ascii=False).encode() + b"\n"


# --- edited rows -------------------------------------------------------------------


def _put_in(records: sqlite3.Connection, edited: dict[str, tuple[str, bytes]]) -> None:
    tables = read_schema(records).tables
    broken = len(records.execute("PRAGMA foreign_key_check").fetchall())
    triggers = records.execute("SELECT name, sql FROM sqlite_schema WHERE type = 'trigger'").fetchall()
    records.execute("BEGIN")
    for name, _ in triggers:
        records.execute(f"DROP TRIGGER {_quoted(name)}")
    for name, (file, data) in edited.items():
        if name not in tables:
            raise _refused(file, f"there is no table {name}")
        _Edited(records, tables[name], file).put_in(data)
    for _, sql in triggers:
        records.execute(sql)
    records.execute("COMMIT")
    found = records.execute("PRAGMA foreign_key_check").fetchall()
    if len(found) > broken:
        raise _refused(f"table {found[-1][0]}", f"a row of it names one of {found[-1][2]} that is not there")


class _Edited:
    """One table whose file was edited."""

    def __init__(self, records: sqlite3.Connection, table: DatabaseTable, file: str) -> None:
        self._records, self._table, self._file = records, table, file
        self._number = _number(table)
        self._key = table.key or ((self._number,) if self._number else ())

    def put_in(self, data: bytes) -> None:
        """Change, remove and add rows until the table holds what the file says; raises ``InvalidError``."""
        old = {self._key_of(row): row for row in _rows(self._records, self._table)}
        new: dict[Any, tuple[int, Row]] = {}
        for line, row in self._parsed(data):
            key = self._key_of(row)
            if key in new:
                raise self._wrong(line, f"line {new[key][0]} has the same key")
            new[key] = line, row
        gone = [key for key, row in old.items() if key not in new or new[key][1] != row]
        # Whatever goes or changes makes room first, so that rows may exchange what has to be unique.
        for key in gone:
            self._do(0, f"DELETE FROM {_quoted(self._table.name)} WHERE {self._where()}", self._key_values(old[key]))
        for key, (line, row) in new.items():
            if key not in old or row != old[key]:
                self._insert(line, {**old.get(key, {}), **row})

    def _parsed(self, data: bytes) -> Iterator[tuple[int, Row]]:
        known = {*_columns(self._table), *([self._number] if self._number else [])}
        for place, text in enumerate(data.splitlines(), 1):
            if not text.strip():
                continue
            try:
                row = json.loads(text)
            except (ValueError, RecursionError) as error:
                raise self._wrong(place, f"no JSON: {error}") from error
            if not isinstance(row, dict):
                raise self._wrong(place, "a row is an object: {column: value}")
            if strange := row.keys() - known:
                raise self._wrong(place, f"{self._table.name} has no column {sorted(strange)[0]!r}")
            yield place, row

    def _key_of(self, row: Row) -> Any:
        # A row without a number is new, whatever it holds.
        if self._number and row.get(self._number) is None:
            return object()
        return tuple(json.dumps(row.get(name)) for name in self._key) if self._key else json.dumps(row, sort_keys=True)

    def _where(self) -> str:
        return " AND ".join(f"{_quoted(name)} IS ?" for name in self._key)

    def _key_values(self, row: Row) -> list[Any]:
        return [meant(row.get(name)) for name in self._key]

    def _insert(self, line: int, row: Row) -> None:
        names = [name for name in row if name != self._number or row[name] is not None]
        try:
            values = [meant(row[name]) for name in names]
        except ValueError as error:
            raise self._wrong(line, str(error)) from error
        columns, marks = ", ".join(map(_quoted, names)), ", ".join("?" for _ in names)
        wanted = f"({columns}) VALUES ({marks})" if names else "DEFAULT VALUES"
        self._do(line, f"INSERT INTO {_quoted(self._table.name)} {wanted}", values)

    def _do(self, line: int, statement: str, values: list[Any]) -> None:
        try:
            self._records.execute(statement, values)
        except (sqlite3.Error, OverflowError) as error:
            raise self._wrong(line, str(error)) from error

    def _wrong(self, line: int, why: str) -> InvalidError:
        return _refused(f"{self._file}, line {line}" if line else self._file, why)


def _refused(where: str, why: str) -> InvalidError:
    return InvalidError(f"{where}: {why}", code="fold.syntax", hint="Fix it; nothing was written.")
