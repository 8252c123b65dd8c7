"""Tables and databases of other people's programs: read as such, silent when written differently, exact when edited.

The edits are made with the format's own library or the standard one, never with the engine the product uses.
"""

from __future__ import annotations

import contextlib
import csv
import io
import json
import random
import sqlite3
import tempfile
import warnings
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.feather
import pyarrow.ipc
import pyarrow.parquet as pq

from tests.core.test_published_files import NEW, Edit, Published
from tests.support.published import published


def one_cell(finding: dict[str, Any]) -> bool:
    return finding["type"] == "column" and finding["detail"].startswith("1 cell")


def _is_text(value: str) -> bool:
    words = value.strip().lower()
    return len(words) > 2 and words[0].isalpha() and words not in ("true", "false", "yes", "nan", "null", "none")


class DelimitedTests(Published):
    """Delimited texts."""

    def files(self) -> list[tuple[str, bytes]]:
        found = []
        for name, data in published("table", (".csv",)):
            with contextlib.suppress(UnicodeDecodeError, csv.Error):
                rows = list(csv.reader(io.StringIO(data.decode("utf-8"), newline="")))
                plain = len(rows) > 3 and len(rows[0]) > 1 and {len(r) for r in rows} == {len(rows[0])}
                header = all(v.strip() and not v.strip()[0].isdigit() for v in rows[0]) if rows else False
                if plain and header and len(set(rows[0])) == len(rows[0]) and b'"' not in data.replace(b'""', b""):
                    found.append((name, data))
        return found

    def test_delimited_texts(self) -> None:
        self.judge("CSV", self.files(), "dataset", self.quoted, self.cell_changed, least_exact=0.85)

    @staticmethod
    def quoted(data: bytes) -> bytes:
        rows = list(csv.reader(io.StringIO(data.decode("utf-8"), newline="")))
        out = io.StringIO()
        csv.writer(out, delimiter=";", quoting=csv.QUOTE_ALL, lineterminator="\r\n").writerows(rows)
        return out.getvalue().encode()

    @staticmethod
    def cell_changed(data: bytes, rng: random.Random) -> Edit | None:
        rows = list(csv.reader(io.StringIO(data.decode("utf-8"), newline="")))
        unique = {k for k in range(len(rows[0])) if len({r[k] for r in rows[1:]}) == len(rows) - 1}
        places = [k for k in range(len(rows[0])) if k not in unique]
        if not unique or not places:
            return None  # a row of a table without a key is another row when a cell changes
        # Columns of texts: another text in a column of numbers would change what the column is, too.
        texts = [k for k in places if all(_is_text(row[k]) for row in rows[1:])]
        if not texts:
            return None
        n, k = rng.randrange(1, len(rows)), rng.choice(texts)
        rows[n][k] = NEW
        out = io.StringIO()
        csv.writer(out).writerows(rows)
        return out.getvalue().encode(), one_cell


def _is_flat(data: bytes) -> bool:
    types = pq.read_schema(io.BytesIO(data)).types
    return bool(types) and not any(pa.types.is_nested(t) for t in types)


class ColumnarTests(Published):
    """Parquet."""

    def test_parquet(self) -> None:
        # Lists of records written anew by another library are lists of lists: those are left out.
        files = [f for f in published("columnar", (".parquet",)) if _is_flat(f[1])]
        self.judge("Parquet", files, "dataset", self.packed_anew, self.cell_changed, least_exact=0.8)

    @staticmethod
    def packed_anew(data: bytes) -> bytes:
        out = io.BytesIO()
        pq.write_table(pq.read_table(io.BytesIO(data)), out, compression="gzip", row_group_size=3)
        return out.getvalue()

    @staticmethod
    def cell_changed(data: bytes, rng: random.Random) -> Edit | None:
        table = pq.read_table(io.BytesIO(data))
        plain = [
            n for n in table.column_names if pa.types.is_integer(table[n].type) or pa.types.is_floating(table[n].type)
        ]
        unique = [n for n in plain if table[n].null_count == 0 and len(table[n].unique()) == len(table) > 2]
        others = [n for n in plain if n not in unique[:1]]
        if not unique or not others:
            return None
        name = rng.choice(others)
        values = table[name].to_pylist()
        place = rng.randrange(len(values))
        values[place] = 77 if values[place] != 77 else 78
        at = table.column_names.index(name)
        changed = table.set_column(at, table.field(name), pa.array(values, table[name].type))
        out = io.BytesIO()
        pq.write_table(changed, out)
        return out.getvalue(), one_cell


class ArrowTests(Published):
    """Arrow and Feather, of either version."""

    def test_arrow(self) -> None:
        files = published("arrow", (".arrow", ".feather"), most=1_500_000)
        self.judge("Arrow", files, "dataset", self.as_stream, self.cell_changed, least=3, least_exact=0.7)

    @staticmethod
    def opened(data: bytes) -> pa.Table:
        if data.startswith(b"FEA1"):
            with warnings.catch_warnings():
                warnings.simplefilter("ignore")  # the library calls the form old
                return pyarrow.feather.read_table(io.BytesIO(data))
        if data.startswith(b"ARROW1"):
            return pyarrow.ipc.open_file(io.BytesIO(data)).read_all()
        return pyarrow.ipc.open_stream(io.BytesIO(data)).read_all()

    @classmethod
    def as_stream(cls, data: bytes) -> bytes:
        out = io.BytesIO()
        table = cls.opened(data)
        with pyarrow.ipc.new_file(out, table.schema) as writer:
            writer.write_table(table, max_chunksize=7)
        return out.getvalue()

    @classmethod
    def cell_changed(cls, data: bytes, rng: random.Random) -> Edit | None:
        table = cls.opened(data)
        numbers = [n for n in table.column_names if pa.types.is_floating(table[n].type)]
        unique = [n for n in table.column_names if table[n].null_count == 0 and len(table[n].unique()) == len(table)]
        numbers = [n for n in numbers if n not in unique[:1]]
        if not numbers or not unique:
            return None
        name = rng.choice(numbers)
        values = table[name].to_pylist()
        values[rng.randrange(len(values))] = 77.25
        at = table.column_names.index(name)
        changed = table.set_column(at, table.field(name), pa.array(values, table[name].type))
        out = io.BytesIO()
        with pyarrow.ipc.new_file(out, changed.schema) as writer:
            writer.write_table(changed)
        return out.getvalue(), one_cell


class RecordTests(Published):
    """Records as JSON, one a line."""

    NAMES = ("testjson_multiline.json", "test_newline.json", "items.jsonl", "test-record-array.json")

    def test_json_lines(self) -> None:
        files = [f for f in published("lines", (".json", ".jsonl")) if f[0].rpartition("/")[2] in self.NAMES]
        self.judge("JSON lines", files, "dataset", self.spelt_anew, self.no_edit, least=4)

    @staticmethod
    def spelt_anew(data: bytes) -> bytes:
        records = [json.loads(line) for line in data.splitlines() if line.strip()]
        turned = [dict(reversed(record.items())) for record in records]
        return b"\r\n".join(json.dumps(record, separators=(" , ", ": ")).encode() for record in turned)

    @staticmethod
    def no_edit(data: bytes, rng: random.Random) -> Edit | None:
        """The published ones have two to six records: too few for one column to be the key beyond doubt."""
        return None


class DatabaseTests(Published):
    """SQLite under any suffix."""

    def test_databases(self) -> None:
        found = published("database", (".gpkg", ".db", ".sqlite"), most=2_000_000)
        files = [(n, d) for n, d in found if d.startswith(b"SQLite format 3")]
        self.judge("SQLite", files, "database", self.vacuumed, self.cell_changed, least=3)

    @staticmethod
    def with_file(data: bytes, statement: str, values: tuple[Any, ...] = ()) -> bytes:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "a.db")
            path.write_bytes(data)
            with contextlib.closing(sqlite3.connect(path, isolation_level=None)) as records:
                # A geographic file's triggers call functions that only its own programs bring.
                for (name,) in records.execute("SELECT name FROM sqlite_master WHERE type = 'trigger'").fetchall():
                    if statement.startswith("UPDATE"):
                        records.execute(f'DROP TRIGGER "{name}"')
                records.execute(statement, values)
            return path.read_bytes()

    @classmethod
    def vacuumed(cls, data: bytes) -> bytes:
        return cls.with_file(data, "VACUUM")

    @classmethod
    def cell_changed(cls, data: bytes, rng: random.Random) -> Edit | None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "a.db")
            path.write_bytes(data)
            with contextlib.closing(sqlite3.connect(path)) as records:
                triggers = records.execute("SELECT count(*) FROM sqlite_master WHERE type = 'trigger'").fetchone()[0]
                tables = [
                    n
                    for (n,) in records.execute(
                        "SELECT name FROM sqlite_master WHERE type = 'table' AND sql NOT LIKE 'CREATE VIRTUAL%'"
                    )
                ]
                spots = []
                for table in tables:
                    columns = records.execute(f'PRAGMA table_info("{table}")').fetchall()
                    texts = [c[1] for c in columns if "TEXT" in c[2].upper() or "CHAR" in c[2].upper()]
                    keyed = any(c[5] for c in columns)
                    count = records.execute(f'SELECT count(*) FROM "{table}"').fetchone()[0]
                    spots += [(table, c[1]) for c in columns if keyed and not c[5] and c[1] in texts and count > 2]
        if not spots or triggers:
            return None
        table, column = rng.choice(spots)
        statement = f'UPDATE "{table}" SET "{column}" = ? WHERE rowid = (SELECT min(rowid) FROM "{table}")'
        return cls.with_file(data, statement, (NEW,)), one_cell
