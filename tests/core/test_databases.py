"""SQLite files: schema objects, and rows of every table against SQLite's own counts."""

from __future__ import annotations

import sqlite3
import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from everyshelf.core.compare.sentences import headline
from everyshelf.core.errors import InvalidError
from tests.support.factories import as_answer, compared
from tests.support.laws import law

SCHEMA = """
CREATE TABLE boats (id INTEGER PRIMARY KEY, name TEXT NOT NULL, seats INT, built DATE);
CREATE TABLE trips (id INTEGER PRIMARY KEY, boat INTEGER REFERENCES boats(id), day TEXT, fare REAL DEFAULT 2.5,
                    cents INT GENERATED ALWAYS AS (CAST(fare * 100 AS INT)));
CREATE TABLE codes (code TEXT PRIMARY KEY, mark BLOB) WITHOUT ROWID;
CREATE TABLE notes (line TEXT);
CREATE VIEW busy AS SELECT * FROM trips WHERE fare > 3;
CREATE INDEX by_day ON trips(day);
CREATE TRIGGER no_loss BEFORE DELETE ON codes BEGIN SELECT raise(ABORT, 'kept'); END;
"""


def database(*edits: str, schema: str = SCHEMA) -> bytes:
    with sqlite3.connect(":memory:") as records:
        records.executescript(schema)
        if schema == SCHEMA:
            rows = [(n, f"Boat {n}", n * 10, "2001-01-01") for n in range(8)]
            records.executemany("INSERT INTO boats VALUES (?, ?, ?, ?)", rows)
            trips = [(n, n % 8, f"2026-03-{n % 28 + 1:02}", n / 4) for n in range(300)]
            records.executemany("INSERT INTO trips (id, boat, day, fare) VALUES (?, ?, ?, ?)", trips)
            records.executemany("INSERT INTO codes VALUES (?, ?)", [(f"c{n}", bytes([n, 0, 255])) for n in range(9)])
            records.executemany("INSERT INTO notes VALUES (?)", [("calm",), ("calm",), ("gale",), (None,)])
        for edit in edits:
            records.executescript(edit)
        records.commit()
        return records.serialize()


def told(found: dict[str, Any]) -> list[tuple[Any, ...]]:
    return [(f["action"], f["part"], f.get("field"), f["effect"]) for f in found["findings"]]


class ForeignOrderTests(unittest.TestCase):
    """Columns that another program orders in a way of its own."""

    def held(self, seats: int) -> bytes:
        with sqlite3.connect(":memory:") as records:
            records.create_collation("by tide", lambda a, b: (a < b) - (a > b))
            records.executescript(
                'CREATE TABLE decks (name TEXT PRIMARY KEY COLLATE "by tide", seats INTEGER) WITHOUT ROWID;'
                'CREATE INDEX named ON decks (name COLLATE "by tide");'
                f"INSERT INTO decks VALUES ('upper', 40), ('car', {seats})"
            )
            return records.serialize()

    def test_they_are_compared_by_meaning(self) -> None:
        found = compared(self.held(12), self.held(14), "boats.db")
        self.assertEqual((found["read_as"], headline(as_answer(found))), ("database", "1 row changed"))
        self.assertEqual(found["tables"]["decks"]["rows"]["changed"], 1)


class SchemaTests(unittest.TestCase):
    """Objects by name."""

    BEFORE = database()

    def changed(self, *edits: str) -> dict[str, Any]:
        found = compared(self.BEFORE, database(*edits), "boats.db")
        self.assertEqual(found["read_as"], "database")
        return found

    def test_nothing(self) -> None:
        self.assertEqual(told(self.changed()), [])
        found = self.changed("DELETE FROM notes WHERE line = 'x'", "VACUUM")
        self.assertEqual(told(found), [])

    def test_each_object_is_one_finding(self) -> None:
        for edit, expected in (
            ("DROP TABLE notes", ("removed", "/table:notes", None, "breaks")),
            ("CREATE TABLE piers (a)", ("added", "/table:piers", None, "alters")),
            ("DROP INDEX by_day", ("removed", "/index:by_day", None, "alters")),
            ("CREATE INDEX by_boat ON trips(boat)", ("added", "/index:by_boat", None, "alters")),
            ("DROP VIEW busy", ("removed", "/view:busy", None, "breaks")),
            ("DROP TRIGGER no_loss", ("removed", "/trigger:no_loss", None, "alters")),
            ("ALTER TABLE boats ADD COLUMN berth TEXT", ("added", "/table:boats/column:berth", None, "alters")),
            ("ALTER TABLE boats DROP COLUMN built", ("removed", "/table:boats/column:built", None, "breaks")),
            ("PRAGMA user_version = 7", ("changed", "/", "user_version", "alters")),
        ):
            with self.subTest(edit=edit):
                self.assertEqual(told(self.changed(edit)), [expected])

    def test_declarations(self) -> None:
        found = compared(
            self.BEFORE,
            database(
                schema=SCHEMA.replace("seats INT", "seats TEXT NOT NULL")
                .replace("2.5", "3.0")
                .replace("REFERENCES boats(id)", "REFERENCES boats(id) ON DELETE CASCADE")
            ),
            "boats.db",
        )
        declared = [t for t in told(found) if t[2] is not None or "foreign" in t[1]]
        self.assertIn(("changed", "/table:boats/column:seats", "type", "breaks"), declared)
        self.assertIn(("changed", "/table:boats/column:seats", "required", "breaks"), declared)
        self.assertIn(("changed", "/table:trips/column:fare", "default", "alters"), declared)
        self.assertEqual([t[0] for t in declared if "foreign key" in t[1]], ["removed", "added"])

    def test_layout_of_sql_means_nothing(self) -> None:
        found = compared(
            database(schema="CREATE VIEW v AS SELECT 1 AS a; CREATE TABLE t (a)"),
            database(schema="CREATE VIEW v AS\n   SELECT 1\n AS a; CREATE TABLE t (a  )"),
            "v.db",
        )
        self.assertEqual(told(found), [])


class RowTests(unittest.TestCase):
    """Rows by primary key, by another where that was regenerated, as multisets without any."""

    def rows(self, table: str, *edits: str) -> dict[str, Any]:
        found = compared(database(), database(*edits), "boats.db")
        self.found = found
        return found["tables"][table]

    def test_primary_key(self) -> None:
        table = self.rows("trips", "UPDATE trips SET fare = 9 WHERE id IN (3, 4)", "DELETE FROM trips WHERE id = 5")
        self.assertEqual(table["rows"], {"added": 0, "removed": 1, "changed": 2, "before": 300, "after": 299})
        self.assertEqual(table["cells"]["fare"]["changed"], 2)
        self.assertEqual(table["cells"]["cents"]["changed"], 2)
        self.assertEqual(headline(as_answer(self.found)), "2 rows changed, 1 row removed")

    def test_key_given_anew(self) -> None:
        table = self.rows("boats", "UPDATE boats SET id = id + 100", "UPDATE boats SET seats = 1 WHERE name = 'Boat 3'")
        self.assertEqual((table["key"], table["cells"]["seats"]["changed"]), (["name"], 1))
        self.assertIn("id was regenerated", self.found["note"])

    def test_a_declared_key_of_one_table(self) -> None:
        anew = "UPDATE trips SET id = id + 1000 WHERE id < 150; UPDATE trips SET id = id - 150 WHERE id < 1000"
        old, new = database(), database(anew)
        asked = compared(old, new, "l.db", key=["trips:day", "boat", "fare"])
        self.assertEqual(asked["tables"]["trips"]["key"], ["day", "boat", "fare"])
        said = compared(old, new, "l.db", rules='[keys]\n"l.db/trips" = ["day", "boat", "fare"]\n')
        self.assertEqual(said["tables"]["trips"]["key"], ["day", "boat", "fare"])
        self.assertEqual(said["tables"]["trips"]["rows"]["added"], 0)

    def test_rules_of_one_table(self) -> None:
        edit = "UPDATE trips SET fare = fare + 0.001; UPDATE boats SET seats = seats + 1"
        rules = (
            '[tables]\n"l.db/trips" = {tolerance = {fare = 0.01}, ignore = ["cents"]}\n"l.db" = {ignore = ["seats"]}\n'
        )
        found = compared(database(), database(edit), "l.db", rules=rules)
        self.assertEqual([f for f in found["findings"] if f["effect"] != "cosmetic"], [])
        self.assertEqual(found["tables"]["trips"]["cells"]["fare"], {"changed": 0, "representation_only": 300})

    def test_a_key_that_names_no_table_is_refused(self) -> None:
        old, new = database(), database("DELETE FROM notes")
        for key, said in (
            (["day"], "several tables"),
            (["sails:day"], "no table 'sails'"),
            (["trips:colour"], "colour"),
        ):
            with self.subTest(key=key), self.assertRaises(InvalidError) as refused:
                compared(old, new, "l.db", key=key)
            self.assertIn(said, refused.exception.message)

    def test_blobs_and_rows_without_a_key(self) -> None:
        self.assertEqual(
            self.rows("codes", "UPDATE codes SET mark = x'00' WHERE code = 'c4'")["cells"]["mark"]["changed"], 1
        )
        table = self.rows("notes", "INSERT INTO notes VALUES ('calm'), ('fog')")
        self.assertEqual((table["key"], table["rows"]["added"], table["rows"]["removed"]), ([], 2, 0))

    @law(40)
    @given(
        st.dictionaries(st.integers(0, 20), st.sampled_from([None, 1, 2.5, "x", "1", b"x"]), min_size=1, max_size=15),
        st.dictionaries(st.integers(0, 20), st.sampled_from([None, 1, 2.5, "x", "1", b"x"]), min_size=1, max_size=15),
    )
    def test_cells_of_any_type(self, before: dict[int, Any], after: dict[int, Any]) -> None:
        sides = []
        for rows in (before, after):
            with sqlite3.connect(":memory:") as records:
                records.execute("CREATE TABLE t (k INTEGER PRIMARY KEY, v)")
                records.executemany("INSERT INTO t VALUES (?, ?)", rows.items())
                records.commit()
                sides.append(records.serialize())
        found = compared(*sides, "t.db")
        shared = before.keys() & after.keys()
        if not shared or "tables" not in found:
            return
        table = found["tables"]["t"]
        if table["key"] != ["k"]:
            return
        kinds = {type(v) for rows in (before, after) for v in rows.values() if v is not None}
        if len(kinds) > 1 and kinds != {int, float}:
            return  # each side holds its column by the types in it; counted in the test below
        changed = sum(type(before[k]) is not type(after[k]) or before[k] != after[k] for k in shared)
        self.assertEqual(table["rows"]["changed"], changed)


class HostileTests(unittest.TestCase):
    """Broken pages, and files that would do something."""

    def test_broken_pages_are_told(self) -> None:
        good = database()
        for place in (100, 4096 + 3, 2 * 4096 + 8, len(good) // 2):
            broken = good[:place] + b"\xff" * 64 + good[place + 64 :]
            with self.subTest(place=place):
                found = compared(good, broken, "boats.db")
                self.assertTrue(found["findings"] or found["note"])
                if found["read_as"] == "bytes":
                    self.assertIn("not readable as an SQLite database", found["note"])
        self.assertEqual(compared(good, good[:5000], "boats.db")["read_as"], "bytes")

    def test_virtual_tables_of_unknown_modules_cost_only_themselves(self) -> None:
        schema = "CREATE TABLE a (b); INSERT INTO a VALUES (1); PRAGMA writable_schema = ON; INSERT INTO sqlite_schema VALUES ('table', 'ghost', 'ghost', 0, 'CREATE VIRTUAL TABLE ghost USING tideline()');"
        found = compared(database(schema=schema), database("UPDATE a SET b = 2", schema=schema), "g.db")
        self.assertEqual(found["read_as"], "database")
        self.assertIn("ghost: no such module", found["note"])
        self.assertEqual(found["tables"]["a"]["rows"]["added"] + found["tables"]["a"]["rows"]["changed"], 1)


if __name__ == "__main__":
    unittest.main()
