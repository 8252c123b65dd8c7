"""Databases and projects of modules as readable parts: rows go back, whatever they hold; the rest is the same bytes."""

from __future__ import annotations

import contextlib
import json
import sqlite3
import tempfile
import unittest
from pathlib import Path
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from everyshelf.core.errors import InvalidError
from everyshelf.core.unfolding import fold, unfold
from everyshelf.demo.ledgers import database_pair
from everyshelf.demo.workbooks import xlsx
from tests.support.laws import law

SCHEMA = """
CREATE TABLE piers (pier INTEGER PRIMARY KEY, name TEXT UNIQUE, depth REAL, chart BLOB);
CREATE TABLE calls (code TEXT, day TEXT, pier INTEGER REFERENCES piers(pier), note, PRIMARY KEY (code, day)) WITHOUT ROWID;
CREATE TABLE notes (line TEXT, size INT GENERATED ALWAYS AS (length(line)));
CREATE TABLE told (what TEXT);
CREATE TRIGGER tell AFTER INSERT ON piers BEGIN INSERT INTO told VALUES ('a pier'); END;
CREATE INDEX by_name ON piers(name);
"""
VALUES = (
    st.none()
    | st.integers(-(2**63), 2**63 - 1)
    | st.floats(allow_nan=False)
    | st.text(st.characters(exclude_categories=["Cs"]), max_size=6)
    | st.binary(max_size=6)
)
CALLS = st.dictionaries(st.tuples(st.sampled_from("ABC"), st.sampled_from("123")), VALUES, max_size=6)


def database(calls: dict[tuple[str, str], Any] | None = None) -> bytes:
    with contextlib.closing(sqlite3.connect(":memory:")) as records:
        records.executescript(SCHEMA)
        records.executemany(
            "INSERT INTO piers VALUES (?, ?, ?, ?)", [(1, "Brae", 4.5, b"\0\1"), (2, "Holm", None, None)]
        )
        records.executemany("INSERT INTO calls VALUES (?, ?, 1, ?)", [(*k, v) for k, v in (calls or {}).items()])
        records.executemany("INSERT INTO notes (line) VALUES (?)", [("calm",), ("calm",), (None,)])
        records.execute("DELETE FROM told")
        records.commit()
        return records.serialize()


def rows(data: bytes, query: str) -> list[Any]:
    with contextlib.closing(sqlite3.connect(":memory:")) as records:
        records.deserialize(data)
        return records.execute(query).fetchall()


def written(*lines: dict[str, Any]) -> bytes:
    return b"".join(json.dumps(line).encode() + b"\n" for line in lines)


class DatabaseTests(unittest.TestCase):
    """SQLite."""

    def edited(self, data: bytes, **tables: bytes) -> bytes:
        files = unfold("sea.db", data).files
        return fold({**files, **{f"tables/{name}.jsonl": content for name, content in tables.items()}}).data

    @law(60)
    @given(CALLS)
    def test_untouched_it_is_the_same_bytes(self, calls: dict[tuple[str, str], Any]) -> None:
        data = database(calls)
        self.assertEqual(fold(unfold("sea.db", data).files).data, data)

    @law(80)
    @given(CALLS, CALLS)
    def test_edited_it_holds_what_the_file_says(
        self, old: dict[tuple[str, str], Any], new: dict[tuple[str, str], Any]
    ) -> None:
        wanted = unfold("sea.db", database(new)).files["tables/calls.jsonl"]
        data = self.edited(database(old), calls=wanted)
        query = "SELECT code, day, pier, typeof(note), note FROM calls ORDER BY code, day"
        self.assertEqual(rows(data, query), rows(database(new), query))
        self.assertEqual(rows(data, "PRAGMA integrity_check"), [("ok",)])
        schema = "SELECT name, sql FROM sqlite_schema ORDER BY name"
        self.assertEqual(rows(data, schema), rows(database(), schema))

    def test_rows_are_readable(self) -> None:
        files = unfold("sea.db", database()).files
        first = json.loads(files["tables/piers.jsonl"].splitlines()[0])
        self.assertEqual(first, {"pier": 1, "name": "Brae", "depth": 4.5, "chart": {"base64": "AAE="}})
        self.assertIn(b"CREATE TABLE piers", files["schema.sql"])
        notes = files["tables/notes.jsonl"].splitlines()
        self.assertEqual(json.loads(notes[0]), {"rowid": 1, "line": "calm"})

    def test_rows_may_exchange_what_is_unique(self) -> None:
        data = self.edited(database(), piers=written({"pier": 1, "name": "Holm"}, {"pier": 2, "name": "Brae"}))
        self.assertEqual(rows(data, "SELECT pier, name, depth FROM piers"), [(1, "Holm", 4.5), (2, "Brae", None)])

    def test_triggers_stay_and_do_not_run(self) -> None:
        data = self.edited(database(), piers=written({"pier": 7, "name": "Vik"}))
        self.assertEqual(rows(data, "SELECT pier FROM piers"), [(7,)])
        self.assertEqual(rows(data, "SELECT count(*) FROM told"), [(0,)])
        self.assertEqual(rows(data, "SELECT name FROM sqlite_schema WHERE type = 'trigger'"), [("tell",)])

    def test_rows_without_a_key_go_by_their_number(self) -> None:
        data = self.edited(database(), notes=written({"rowid": 2, "line": "gale"}, {"line": "new"}))
        self.assertEqual(rows(data, "SELECT line, size FROM notes"), [("gale", 4), ("new", 3)])

    def test_what_cannot_go_in_is_refused_with_its_place(self) -> None:
        data = database({("A", "1"): 1})
        for table, content, said in (
            ("piers", b'{"pier": 1}\nno\n', "tables/piers.jsonl, line 2: no JSON"),
            ("piers", written({"pier": 1, "colour": "red"}), "no column 'colour'"),
            ("piers", written({"pier": 1}, {"pier": 1}), "line 1 has the same key"),
            ("piers", written({"pier": 1, "name": [1]}), "not a value of a cell"),
            ("piers", written({"pier": 1, "chart": {"base64": "?"}}), "line 1"),
            ("piers", b"[1]\n", "a row is an object"),
            ("piers", written({"pier": 2**70}), "line 1"),
            ("calls", written({"code": None, "day": "1"}), "NOT NULL"),
            ("piers", b"", "names one of piers that is not there"),
        ):
            with self.subTest(content=content), self.assertRaises(InvalidError) as refused:
                self.edited(data, **{table: content})
            self.assertIn(said, f"{refused.exception.message}")
            self.assertTrue(refused.exception.hint)

    def test_a_missing_table_file_is_refused(self) -> None:
        files = unfold("sea.db", database()).files
        del files["tables/notes.jsonl"]
        with self.assertRaises(InvalidError) as refused:
            fold(files)
        self.assertEqual(refused.exception.code, "fold.missing")

    def test_a_database_with_a_log_beside_it(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "a.db")
            with contextlib.closing(sqlite3.connect(path)) as records:
                records.execute("PRAGMA journal_mode = WAL")
                records.execute("CREATE TABLE a (k INTEGER PRIMARY KEY, v)")
                records.execute("INSERT INTO a VALUES (1, 'x')")
                records.commit()
            data = path.read_bytes()
            self.assertEqual(data[18:20], b"\2\2")
            path.write_bytes(self.edited(data, a=written({"k": 1, "v": "y"})))
            with contextlib.closing(sqlite3.connect(path)) as records:
                self.assertEqual(records.execute("SELECT v FROM a").fetchall(), [("y",)])
                self.assertEqual(records.execute("PRAGMA journal_mode").fetchone(), ("wal",))

    def test_damaged_ones_are_refused_in_words(self) -> None:
        data = database()
        for bad in (data[:5000], data[:100] + bytes(len(data) - 100)):
            with self.assertRaises(InvalidError) as refused:
                unfold("sea.db", bad)
            self.assertEqual(refused.exception.code, "unfold.impossible")

    def test_the_database_of_the_demo(self) -> None:
        pair = database_pair()
        self.assertEqual(fold(unfold("counter.sqlite", pair.before).files).data, pair.before)


class ModuleTests(unittest.TestCase):
    """Script modules of office files."""

    def test_modules_can_be_read_and_go_back_as_they_were(self) -> None:
        book = xlsx({"S": [["a"], [1]]}, {}, {"Closing": "Sub Close()\r\nEnd Sub\r\n"})
        unfolded = unfold("desk.xlsm", book)
        self.assertIn(b"Sub Close()", unfolded.files["modules/Closing.bas"])
        self.assertEqual(fold(unfolded.files).data, book)
        told = fold({**unfolded.files, "modules/Closing.bas": b"Sub Other()\r\nEnd Sub\r\n"})
        self.assertEqual(told.data, book)
        self.assertIn("modules/Closing.bas is there to be read", told.notes[0])


if __name__ == "__main__":
    unittest.main()
