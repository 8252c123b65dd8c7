"""A running database as files: everything comes back, and only what has to be done is done."""

from __future__ import annotations

import contextlib
import json
import sqlite3
import tempfile
import unittest
from contextlib import closing
from pathlib import Path
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from everyshelf.core.databases.sqlite import SqliteDatabase
from everyshelf.core.errors import ConflictError, EveryShelfError, InvalidError, OutOfReachError
from everyshelf.core.promotion.database import DatabaseDestination
from everyshelf.core.promotion.destination import Manifest
from tests.support.laws import law
from tests.support.published import published

SKERRY = """
CREATE TABLE harbours (code TEXT PRIMARY KEY NOT NULL, name TEXT NOT NULL UNIQUE, "berth's" INTEGER DEFAULT 1);
CREATE TABLE vessels (
  id INTEGER PRIMARY KEY AUTOINCREMENT, -- never given twice
  name varchar(40) NOT NULL COLLATE NOCASE CHECK (length(name) > 1),
  seats INTEGER NOT NULL DEFAULT 0 CONSTRAINT some_seats CHECK (seats >= 0),
  home TEXT REFERENCES harbours (code) ON DELETE SET NULL ON UPDATE CASCADE DEFERRABLE INITIALLY DEFERRED,
  made TEXT DEFAULT (date('now')), photo BLOB, decks AS (seats / 100 + 1) STORED, [odd name] REAL);
CREATE INDEX vessels_by_home ON vessels (home, name COLLATE NOCASE DESC) WHERE seats > 10;
CREATE UNIQUE INDEX vessels_once ON vessels (lower(name));
CREATE TABLE tides (harbour TEXT, at TEXT, height REAL, PRIMARY KEY (harbour, at)) WITHOUT ROWID;
CREATE TABLE counts (what TEXT NOT NULL, n INT NOT NULL) STRICT;
CREATE TABLE notes (said TEXT);
CREATE TABLE bookings (id INTEGER PRIMARY KEY, vessel INTEGER NOT NULL REFERENCES vessels (id) ON DELETE CASCADE);
CREATE VIEW large AS SELECT name FROM vessels WHERE seats > 100;
CREATE VIEW largest AS SELECT max(name) FROM large;
CREATE TRIGGER counted AFTER INSERT ON vessels BEGIN INSERT INTO notes VALUES ('a vessel; ' || new.name); END;
INSERT INTO harbours VALUES ('SK', 'Skerry', 3), ('TB', 'Tern Bay', NULL);
INSERT INTO vessels (name, seats, home, made, photo, "odd name") VALUES
  ('Tern', 180, 'SK', '2026-04-01', x'00ff', 1.5), ('Puffin', 96, NULL, '2026-05-01', NULL, 1e300);
INSERT INTO tides VALUES ('SK', '2026-11-25T04:00', 2.5), ('SK', '2026-11-25T10:10', 0.25);
INSERT INTO counts VALUES ('trips', 9007199254740993);
INSERT INTO bookings VALUES (7, 1);
"""
CHOSEN = ("harbours", "vessels", "tides", "counts", "notes")


class Held:
    """A database in a file of its own, as a destination."""

    def __init__(self, *scripts: str, records: tuple[str, ...] = CHOSEN) -> None:
        self._folder = tempfile.TemporaryDirectory(prefix="everyshelf-held-")
        self.file = Path(self._folder.name, "held.sqlite")
        self.chosen = records
        self.run(*scripts)

    def run(self, *scripts: str) -> None:
        with closing(sqlite3.connect(self.file)) as records:
            for script in scripts:
                records.executescript(script)

    def ask(self, query: str) -> list[Any]:
        with closing(sqlite3.connect(self.file)) as records:
            return records.execute(query).fetchall()

    def place(self, **more: Any) -> DatabaseDestination:
        return DatabaseDestination(SqliteDatabase(self.file, busy_seconds=0.2), "db", records=self.chosen, **more)

    def files(self) -> dict[str, bytes]:
        place = self.place()
        found = {}
        for path in place.present():
            with place.as_file(path) as file:
                found[path] = file.read_bytes()
        return found

    def steps(self, files: dict[str, bytes]) -> list[tuple[str, str, str]]:
        place = self.place()
        wanted = wanted_of(place, files)
        told = place.steps(place.present(), wanted, lambda path: iter((files[path],)))
        return [(step.action, step.what, step.name) for step in told]

    def put(self, files: dict[str, bytes], key: str = "k1") -> list[str]:
        place = self.place()
        wanted = wanted_of(place, files)
        place.stage(key, place.present(), wanted, lambda path: iter((files[path],)))
        place.switch(key)
        return place.differences(key, wanted)


def wanted_of(place: DatabaseDestination, files: dict[str, bytes]) -> Manifest:
    found = {path: place.kept_as(path, data, files.get) for path, data in files.items()}
    return {path: placed for path, placed in found.items() if placed is not None}


def edited(files: dict[str, bytes], path: str, change: Any) -> dict[str, bytes]:
    tree = json.loads(files[path])
    change(tree)
    return {**files, path: json.dumps(tree, indent=4).encode()}


class RestoringTests(unittest.TestCase):
    """What was captured is there again in another database, whatever SQLite lets one say."""

    def test_everything_comes_back_in_an_empty_database(self) -> None:
        office, harbour = Held(SKERRY), Held()
        files = office.files()
        self.assertEqual(harbour.put(files), [])
        self.assertEqual(harbour.files(), files)
        self.assertEqual(harbour.ask("SELECT id, decks, photo FROM vessels"), [(1, 2, b"\x00\xff"), (2, 1, None)])
        self.assertEqual(harbour.ask("SELECT * FROM largest"), [("Tern",)])
        self.assertEqual(harbour.ask("SELECT n FROM counts"), [(9007199254740993,)])

    def test_records_of_tables_that_were_not_chosen_stay_where_they_are(self) -> None:
        office, harbour = Held(SKERRY), Held(SKERRY, "INSERT INTO bookings VALUES (8, 2)")
        self.assertNotIn("db/bookings.records.json", office.files())
        office.run("UPDATE vessels SET seats = 200 WHERE id = 1")
        self.assertEqual(harbour.put(office.files()), [])
        self.assertEqual(harbour.ask("SELECT id FROM bookings ORDER BY id"), [(7,), (8,)])

    def test_triggers_do_not_run_while_records_are_put(self) -> None:
        office, harbour = Held(SKERRY), Held(SKERRY, "DELETE FROM vessels WHERE id = 2; DELETE FROM notes")
        harbour.run(
            "INSERT INTO notes SELECT 'a vessel; ' || name FROM (SELECT 'Tern' AS name UNION ALL SELECT 'Puffin')"
        )
        self.assertEqual(harbour.put(office.files()), [])
        self.assertEqual(len(harbour.ask("SELECT * FROM notes")), 2)
        harbour.run("INSERT INTO vessels (name) VALUES ('Eider')")
        self.assertEqual(len(harbour.ask("SELECT * FROM notes")), 3)

    def test_numbers_that_were_given_once_are_not_given_again(self) -> None:
        office, harbour = (
            Held(SKERRY),
            Held(
                SKERRY,
                "INSERT INTO vessels (id, name) VALUES (50, 'Gannet'); DELETE FROM vessels WHERE id = 50; DELETE FROM notes WHERE said LIKE '%Gannet'",
            ),
        )
        files = edited(
            office.files(), "db/vessels.table.json", lambda t: t["columns"].insert(1, {"name": "mmsi", "type": "TEXT"})
        )
        self.assertEqual(harbour.put(files), [])
        harbour.run("INSERT INTO vessels (name) VALUES ('Eider')")
        self.assertEqual(harbour.ask("SELECT max(id) FROM vessels"), [(51,)])

    def test_what_another_program_orders_in_its_own_way_is_read_and_not_written(self) -> None:
        office = Held(records=("*",))
        with closing(sqlite3.connect(office.file)) as records:
            records.create_collation("by tide", lambda a, b: (a < b) - (a > b))
            records.executescript(
                'CREATE TABLE decks (name TEXT PRIMARY KEY COLLATE "by tide", seats INTEGER);'
                "INSERT INTO decks VALUES ('upper', 40), ('car', 12)"
            )
        files = office.files()
        self.assertEqual(list(json.loads(files["db/decks.records.json"])["records"]), ["car", "upper"])
        with self.assertRaises(ConflictError) as caught:
            Held(records=("*",)).put(files)
        self.assertIn("by tide", caught.exception.message)

    def test_records_whose_key_holds_nothing_are_all_kept(self) -> None:
        sql = "CREATE TABLE seen (harbour TEXT, at TEXT, note TEXT, PRIMARY KEY (harbour, at));"
        rows = "INSERT INTO seen VALUES (NULL, NULL, 'b'), ('SK', 'noon', 'c'), (NULL, NULL, 'a'), (NULL, 'noon', 'a');"
        office, harbour = Held(sql + rows, records=("*",)), Held(records=("*",))
        files = office.files()
        self.assertEqual(harbour.put(files), [])
        self.assertEqual(harbour.files(), files)
        self.assertEqual(harbour.steps(files), [])
        office.run("DELETE FROM seen WHERE note = 'b'; UPDATE seen SET note = 'd' WHERE harbour = 'SK'")
        self.assertEqual(harbour.put(office.files(), "k2"), [])
        self.assertEqual(sorted(harbour.ask("SELECT note FROM seen")), [("a",), ("a",), ("d",)])

    def test_a_statement_that_says_more_is_kept_as_it_is(self) -> None:
        for sql in (
            "CREATE TABLE odd (a INTEGER PRIMARY KEY DESC, b UNIQUE ON CONFLICT REPLACE)",
            "CREATE VIRTUAL TABLE found USING fts5 (said)",
            "CREATE TABLE two (a REFERENCES odd (a) DEFERRABLE INITIALLY DEFERRED, b REFERENCES odd (a), c)",
        ):
            office, harbour = Held(sql), Held()
            files = office.files()
            table = next(p for p in files if p.endswith(".table.json"))
            self.assertEqual(json.loads(files[table])["as_is"], sql)
            self.assertEqual(harbour.put(files), [], sql)
            self.assertEqual(harbour.files(), files)
            changed = edited(files, table, lambda t: t.update(as_is=t["as_is"].replace(", ", ", z, ", 1)))
            if "VIRTUAL" not in sql:
                with self.assertRaises(ConflictError) as caught:
                    harbour.steps(changed)
                self.assertEqual(caught.exception.code, "database.as_is")

    def test_comments_and_names_that_are_words_of_the_language_come_along(self) -> None:
        office, harbour = Held(), Held()
        office.run(
            "CREATE TABLE odd (a TEXT /* what */ CHECK (a <> '--' -- not that\n), \"select\" INT, b INT);\n"
            'CREATE INDEX "order" ON odd ("select", b DESC) WHERE b > 0 -- some\n;'
        )
        files = office.files()
        self.assertNotIn(b"not that", files["db/odd.table.json"])
        self.assertEqual(harbour.put(files), [])
        self.assertEqual(harbour.files(), files)


class ChangingTests(unittest.TestCase):
    """Columns, keys, conditions and records are brought to what the shelf says, and the steps tell all of it."""

    def test_a_new_column_and_its_values(self) -> None:
        office, harbour = Held(SKERRY), Held(SKERRY)
        office.run("ALTER TABLE vessels ADD COLUMN car_deck INTEGER", "UPDATE vessels SET car_deck = 42 WHERE id = 1")
        files = office.files()
        self.assertIn(b'"car_deck": 42', files["db/vessels.records.json"])
        self.assertEqual(files["db/vessels.records.json"].count(b"car_deck"), 1)
        self.assertEqual(
            harbour.steps(files), [("created", "column", "vessels.car_deck"), ("altered", "records", "vessels")]
        )
        self.assertEqual(harbour.put(files), [])
        self.assertEqual(harbour.ask("SELECT car_deck FROM vessels ORDER BY id"), [(42,), (None,)])

    def test_a_required_column_without_a_default_takes_the_values_of_the_records(self) -> None:
        office, harbour = Held(SKERRY), Held(SKERRY)
        files = edited(
            office.files(),
            "db/vessels.table.json",
            lambda t: t["columns"].append({"name": "flag", "type": "TEXT", "required": True}),
        )
        with self.assertRaises(EveryShelfError):
            harbour.put(files)
        files = edited(files, "db/vessels.records.json", lambda t: [r.update(flag="N") for r in t["records"].values()])
        self.assertEqual(harbour.put(files), [])
        self.assertEqual(harbour.ask("SELECT DISTINCT flag FROM vessels"), [("N",)])

    def test_a_column_that_says_what_it_was_called_keeps_its_values(self) -> None:
        harbour = Held(SKERRY)
        files = edited(
            harbour.files(), "db/bookings.table.json", lambda t: t["columns"][1].update(name="ship", was="vessel")
        )
        files = edited(files, "db/bookings.table.json", lambda t: t["references"][0].update(columns=["ship"]))
        self.assertIn(("altered", "column", "bookings.ship"), harbour.steps(files))
        self.assertEqual(harbour.put(files), [])
        self.assertEqual(harbour.ask("SELECT ship FROM bookings"), [(1,)])

    def test_removed_columns_and_tables_and_narrower_types_are_called_lost(self) -> None:
        harbour = Held(SKERRY)
        files = edited(harbour.files(), "db/vessels.table.json", lambda t: t["columns"].pop(5))
        files = edited(files, "db/vessels.records.json", lambda t: [r.pop("photo", 0) for r in t["records"].values()])
        files = edited(files, "db/harbours.table.json", lambda t: t["columns"][1].update(type="VARCHAR(5)"))
        del files["db/bookings.table.json"]
        place = harbour.place()
        steps = place.steps(place.present(), wanted_of(place, files), lambda path: iter((files[path],)))
        lost = {(s.what, s.name) for s in steps if s.lost}
        self.assertEqual(lost, {("column", "vessels.photo"), ("table", "bookings"), ("column", "harbours.name")})

    def test_records_exchange_what_has_to_be_unique(self) -> None:
        harbour = Held(SKERRY)

        def exchange(tree: Any) -> None:
            one, other = tree["records"]["SK"], tree["records"]["TB"]
            one["name"], other["name"] = other["name"], one["name"]

        self.assertEqual(harbour.put(edited(harbour.files(), "db/harbours.records.json", exchange)), [])
        self.assertEqual(harbour.ask("SELECT name FROM harbours WHERE code = 'SK'"), [("Tern Bay",)])

    def test_a_record_that_others_name_is_not_taken_from_under_them(self) -> None:
        harbour = Held(SKERRY)
        before = harbour.files()
        with self.assertRaises(ConflictError) as caught:
            harbour.put(edited(before, "db/vessels.records.json", lambda t: t["records"].pop("1")))
        self.assertEqual(caught.exception.code, "database.broken")
        self.assertIn("bookings", caught.exception.message)
        self.assertEqual(harbour.files(), before)

    def test_a_large_table_is_told_in_lines_and_stays_so(self) -> None:
        rows = ", ".join(f"('H{n:05}', 'harbour {n}', {n})" for n in range(3000))
        office, harbour = Held(SKERRY, f"INSERT INTO harbours VALUES {rows}"), Held()
        files = office.files()
        self.assertIn("db/harbours.records.jsonl", files)
        self.assertEqual(harbour.put(files), [])
        harbour.run("DELETE FROM harbours WHERE code > 'H00002' AND code < 'I'")
        known = harbour.place(known=files).present()
        self.assertIn("db/harbours.records.jsonl", known)

    def test_what_is_in_the_way_changes_nothing(self) -> None:
        harbour = Held(SKERRY)
        before = harbour.files()
        for path, change in (
            ("db/harbours.records.json", lambda t: t["records"].update(GP={"name": "Skerry"})),
            ("db/vessels.records.json", lambda t: t["records"]["1"].update(seats=-1)),
            ("db/vessels.records.json", lambda t: t["records"]["1"].update(home="nowhere")),
            ("db/counts.table.json", lambda t: t["columns"].append({"name": "x", "type": "NONSENSE"})),
        ):
            with self.assertRaises(ConflictError) as caught:
                harbour.put(edited(before, path, change))
            self.assertIn(caught.exception.code, ("database.refused", "database.broken"))
            self.assertEqual(harbour.files(), before)

    def test_files_that_make_no_sense_are_refused_by_name(self) -> None:
        harbour = Held(SKERRY)
        files = harbour.files()
        for path, data in (
            ("db/vessels.table.json", b"{"),
            ("db/vessels.table.json", files["db/harbours.table.json"]),
            ("db/vessels.table.json", files["db/vessels.table.json"].replace(b'"key"', b'"keys"')),
            ("db/vessels.records.json", files["db/vessels.records.json"].replace(b'"1"', b'"2"')),
            ("db/vessels.records.json", files["db/vessels.records.json"].replace(b'"seats"', b'"chairs"')),
            ("db/vessels.records.json", b'{"records": 3}'),
            ("db/notes.records.jsonl", b"[1]\n"),
            ("db/notes.records.jsonl", b'{"said": {"base64": 4}}\n'),
            ("db/large.view.sql", b"DROP TABLE vessels"),
            ("db/large.view.sql", b"CREATE VIEW large AS SELECT 1; DROP TABLE vessels"),
        ):
            with self.assertRaises(InvalidError, msg=data[:40]) as caught:
                harbour.steps({**files, path: data})
            self.assertEqual(caught.exception.code, "database.file")
            self.assertIn(path, caught.exception.message)

    def test_what_a_table_says_stays_in_its_place_of_the_statement(self) -> None:
        harbour = Held(SKERRY)
        files = harbour.files()
        for part in (
            "0); DROP TABLE notes; --",
            "0 -- none",
            "(1",
            "1), x (2",
            "TEXT, DROP COLUMN photo",
            "/* 1 */ 0",
            "E'\\'; DROP TABLE notes; --'",
            "$$'$$",
        ):
            for change in (
                lambda t, said=part: t["columns"][2].update(default=said),
                lambda t, said=part: t["columns"][2].update(type=said),
                lambda t, said=part: t.update(checks=[{"holds": said}]),
                lambda t, said=part: t["indexes"][0].update(where=said),
                lambda t, said=part: t["references"][0].update(on_delete=said),
                lambda t, said=part: t.update(options=[said]),
            ):
                with self.assertRaises(InvalidError, msg=part) as caught:
                    harbour.steps(edited(files, "db/vessels.table.json", change))
                self.assertEqual(caught.exception.code, "database.file")
        for part in ("'a; b -- c'", "('x' || \";\")"):
            edit = edited(files, "db/vessels.table.json", lambda t, said=part: t["columns"][2].update(default=said))
            self.assertIn(("altered", "column", "vessels.seats"), harbour.steps(edit))

    def test_a_change_between_making_ready_and_the_switch_is_noticed(self) -> None:
        office, harbour = Held(SKERRY, "UPDATE harbours SET name = 'Skerry Town' WHERE code = 'SK'"), Held(SKERRY)
        place, files = harbour.place(), office.files()
        place.stage("k1", place.present(), wanted_of(place, files), lambda path: iter((files[path],)))
        harbour.run("UPDATE harbours SET name = 'The Skerry' WHERE code = 'SK'")
        with self.assertRaises(ConflictError) as caught:
            place.switch("k1")
        self.assertEqual(caught.exception.code, "destination.changed")
        self.assertEqual(harbour.ask("SELECT name FROM harbours WHERE code = 'SK'"), [("The Skerry",)])
        self.assertIsNone(place.current())

    def test_a_database_that_somebody_holds_is_out_of_reach(self) -> None:
        office, harbour = Held(SKERRY, "UPDATE harbours SET name = 'Skerry Town' WHERE code = 'SK'"), Held(SKERRY)
        with closing(sqlite3.connect(harbour.file)) as other:
            other.execute("BEGIN IMMEDIATE")
            with self.assertRaises(OutOfReachError):
                harbour.put(office.files())
        self.assertEqual(harbour.put(office.files()), [])


class PublishedTests(unittest.TestCase):
    """Databases that other programs made."""

    def test_published_databases_come_back_in_an_empty_one(self) -> None:
        count = 0
        for name, data in published("database", (".db", ".gpkg", ".sqlite", ".sqlite3")):
            if not data.startswith(b"SQLite format 3"):
                continue
            found, empty = Held(records=("*",)), Held(records=("*",))
            found.file.write_bytes(data)
            files = found.files()
            with self.subTest(name):
                self.assertEqual(empty.put(files), [])
                self.assertEqual(empty.files(), files)
            count += 1
        self.assertGreater(count, 3)


# --- laws ----------------------------------------------------------------------------

_NAMES = st.sampled_from(["code", "name", "seats", "Odd name", 'quo"te', "länge", "select"])
_TYPES = st.sampled_from(["TEXT", "INTEGER", "REAL", "NUMERIC(8, 2)", "BLOB", "", "varchar(9)"])
_VALUES = st.one_of(
    st.none(),
    st.integers(-(2**63), 2**63 - 1),
    st.floats(allow_nan=False),
    st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\0"), max_size=6),
    st.binary(max_size=5),
)
_DEFAULTS = st.sampled_from([None, "0", "'x''y'", "-1.5", "NULL", "(1 + 1)", "CURRENT_DATE"])


@st.composite
def tables(draw: Any) -> tuple[str, list[tuple[Any, ...]]]:
    """A CREATE TABLE statement and rows for it."""
    names = draw(st.lists(_NAMES, min_size=1, max_size=5, unique_by=str.lower))
    keyed = draw(st.booleans())
    lines = []
    for place, name in enumerate(names):
        default = draw(_DEFAULTS)
        said = [f'"{name.replace(chr(34), chr(34) * 2)}"', draw(_TYPES), f"DEFAULT {default}" if default else ""]
        if place == 0 and keyed:
            said.append(draw(st.sampled_from(["PRIMARY KEY NOT NULL", "PRIMARY KEY"])))
        elif draw(st.booleans()):
            said.append("COLLATE NOCASE")
        lines.append(" ".join(said))
    rows = draw(st.lists(st.tuples(*[_VALUES for _ in names]), max_size=6))
    indexed = [f'"{name.replace(chr(34), chr(34) * 2)}"{draw(st.sampled_from(["", " DESC"]))}' for name in names]
    index = f"; CREATE INDEX i ON t ({', '.join(indexed)})" if draw(st.booleans()) else ""
    return f"CREATE TABLE t ({', '.join(lines)}){index}", rows


def made(drawn: tuple[str, list[tuple[Any, ...]]]) -> Held:
    statement, rows = drawn
    held = Held(statement, records=("t",))
    with closing(sqlite3.connect(held.file)) as records:
        for row in rows:
            marks = ", ".join("?" for _ in row)
            with contextlib.suppress(sqlite3.IntegrityError):  # a text as the number of a row
                records.execute(f"INSERT OR IGNORE INTO t VALUES ({marks})", row)
        records.commit()
    return held


class LawTests(unittest.TestCase):
    """For tables and values drawn at random."""

    @law(300)
    @given(tables())
    def test_what_was_captured_comes_back_byte_for_byte(self, drawn: Any) -> None:
        office, harbour = made(drawn), Held(records=("t",))
        files = office.files()
        self.assertEqual(harbour.put(files), [])
        self.assertEqual(harbour.files(), files)
        self.assertEqual(
            sorted(map(repr, harbour.ask("SELECT * FROM t"))), sorted(map(repr, office.ask("SELECT * FROM t")))
        )

    @law(300)
    @given(tables(), tables())
    def test_any_table_becomes_any_other(self, one: Any, other: Any) -> None:
        office, harbour = made(one), made(other)
        files = office.files()
        self.assertEqual(harbour.put(files), [])
        self.assertEqual(harbour.files(), files)
        self.assertEqual(harbour.steps(files), [])
