"""A database of a server as a destination: foreign keys, conditions and structure change together in one transaction."""

from __future__ import annotations

import contextlib
import json
import unittest
import uuid
from typing import Any, ClassVar

import psycopg
from hypothesis import given
from hypothesis import strategies as st

from everyshelf.core.errors import ConflictError, InvalidError
from everyshelf.core.promotion.database import DatabaseDestination
from everyshelf.destinations.reach import Reach
from everyshelf.destinations.sql import SqlDatabase
from tests.core.test_captured_databases import edited, wanted_of
from tests.support.laws import law
from tests.support.postgres import PASSWORD, is_there, postgres

SKERRY = """
CREATE TABLE harbours (code TEXT PRIMARY KEY, name TEXT NOT NULL, flagship TEXT);
CREATE TABLE vessels (code TEXT PRIMARY KEY, home TEXT NOT NULL REFERENCES harbours (code), berth INTEGER UNIQUE);
ALTER TABLE harbours ADD FOREIGN KEY (flagship) REFERENCES vessels (code);
CREATE TABLE crew (number INTEGER PRIMARY KEY, name TEXT, under INTEGER REFERENCES crew (number));
INSERT INTO harbours VALUES ('SK', 'Skerry', NULL), ('TB', 'Tern Bay', NULL);
INSERT INTO vessels VALUES ('TERN', 'SK', 1), ('PUFFIN', 'TB', 2);
UPDATE harbours SET flagship = 'TERN' WHERE code = 'SK';
INSERT INTO crew VALUES (9, 'Maren', NULL), (1, 'Tobias', 9), (4, 'Ines', 1);
"""


class Server:
    """The one database of a server, emptied, and as a destination."""

    def __init__(self, base: str) -> None:
        self.address = f"{base}/postgres"
        self._dsn = self.address.replace("+psycopg", "").replace("@", f":{PASSWORD}@")
        self.run("DROP SCHEMA public CASCADE; CREATE SCHEMA public")

    def run(self, script: str) -> None:
        with psycopg.connect(self._dsn) as records:
            records.execute(script)

    def ask(self, query: str) -> list[Any]:
        with psycopg.connect(self._dsn) as records:
            return records.execute(query).fetchall()

    @contextlib.contextmanager
    def place(self) -> Any:
        database = SqlDatabase(self.address, PASSWORD, Reach(("127.0.0.1", "localhost")))
        with contextlib.closing(database):
            yield DatabaseDestination(database, "db", records=["*"])

    def files(self) -> dict[str, bytes]:
        found = {}
        with self.place() as place:
            for path in place.present():
                with place.as_file(path) as file:
                    found[path] = file.read_bytes()
        return found

    def steps(self, files: dict[str, bytes]) -> list[tuple[str, str, str]]:
        with self.place() as place:
            told = place.steps(place.present(), wanted_of(place, files), lambda path: iter((files[path],)))
        return [(step.action, step.what, step.name) for step in told]

    def put(self, files: dict[str, bytes]) -> None:
        with self.place() as place:
            wanted = wanted_of(place, files)
            key = uuid.uuid4().hex
            place.stage(key, place.present(), wanted, lambda path: iter((files[path],)))
            place.switch(key)
            assert place.differences(key, wanted) == []


@unittest.skipUnless(is_there(), "this machine has no PostgreSQL server")
class ServerCase(unittest.TestCase):
    base: ClassVar[str]

    @classmethod
    def setUpClass(cls) -> None:
        cls.base = cls.enterClassContext(postgres())

    def setUp(self) -> None:
        self.server = Server(self.base)

    def becomes(self, script: str, *, first: str = SKERRY) -> None:
        """What the script does to a database, a promotion does as well."""
        self.server.run(first + script)
        wanted = self.server.files()
        self.server = Server(self.base)
        self.server.run(first)
        self.server.put(wanted)
        self.assertEqual(self.server.steps(wanted), [])


class TogetherTests(ServerCase):
    """Whatever a person can do in one transaction, whatever names whom."""

    def test_tables_that_name_each_other_come_into_an_empty_database(self) -> None:
        self.server.run(SKERRY)
        files = self.server.files()
        self.server = Server(self.base)
        self.server.put(files)
        self.assertEqual(self.server.files(), files)
        with self.assertRaises(psycopg.errors.ForeignKeyViolation):
            self.server.run("UPDATE crew SET under = 77 WHERE number = 4")

    def test_records_that_name_later_ones_of_their_own_table(self) -> None:
        self.becomes("INSERT INTO crew VALUES (8, 'Signe', NULL); INSERT INTO crew VALUES (2, 'Jon', 8)")

    def test_a_record_goes_and_those_that_named_it_name_another(self) -> None:
        self.becomes("UPDATE vessels SET home = 'SK'; DELETE FROM harbours WHERE code = 'TB'")

    def test_a_table_goes_with_the_foreign_key_that_named_it(self) -> None:
        self.becomes(
            "ALTER TABLE vessels DROP COLUMN home; ALTER TABLE harbours DROP COLUMN flagship; DROP TABLE harbours"
        )

    def test_tables_that_name_each_other_go(self) -> None:
        self.becomes("DROP TABLE harbours, vessels CASCADE")

    def test_records_exchange_what_has_to_be_unique(self) -> None:
        self.becomes(
            "UPDATE vessels SET berth = NULL; UPDATE vessels SET berth = 2 WHERE code = 'TERN'; UPDATE vessels SET berth = 1 WHERE code = 'PUFFIN'"
        )

    def test_a_record_takes_what_has_to_be_unique_from_one_that_goes(self) -> None:
        self.becomes("DELETE FROM vessels WHERE code = 'PUFFIN'; INSERT INTO vessels VALUES ('AUK', 'TB', 2)")

    def test_a_key_changes_its_type_and_what_names_it_as_well(self) -> None:
        self.becomes(
            "ALTER TABLE harbours DROP COLUMN flagship; ALTER TABLE vessels DROP CONSTRAINT vessels_home_fkey;"
            "ALTER TABLE harbours ALTER code TYPE VARCHAR(9); ALTER TABLE vessels ALTER home TYPE VARCHAR(9);"
            "ALTER TABLE vessels ADD FOREIGN KEY (home) REFERENCES harbours (code)"
        )

    def test_another_key_for_a_table_that_others_name(self) -> None:
        self.becomes(
            "ALTER TABLE vessels DROP CONSTRAINT vessels_home_fkey; ALTER TABLE harbours DROP CONSTRAINT harbours_pkey;"
            "ALTER TABLE harbours ADD COLUMN number INTEGER; UPDATE harbours SET number = length(name);"
            "ALTER TABLE harbours ADD PRIMARY KEY (number); ALTER TABLE vessels DROP COLUMN home;"
            "ALTER TABLE vessels ADD COLUMN port INTEGER; UPDATE vessels SET port = 6;"
            "ALTER TABLE vessels ALTER port SET NOT NULL;"
            "ALTER TABLE vessels ADD FOREIGN KEY (port) REFERENCES harbours (number)"
        )

    def test_foreign_keys_that_act_by_themselves_do_not(self) -> None:
        for acts in ("DELETE CASCADE", "DELETE SET NULL", "DELETE RESTRICT", "UPDATE CASCADE"):
            with self.subTest(acts):
                self.server = Server(self.base)
                first = (
                    "CREATE TABLE piers (id INTEGER PRIMARY KEY, sign TEXT UNIQUE NOT NULL);"
                    f"CREATE TABLE berths (id INTEGER PRIMARY KEY, pier TEXT REFERENCES piers (sign) ON {acts});"
                    "INSERT INTO piers VALUES (1, 'A'), (2, 'B'), (3, 'C'); INSERT INTO berths VALUES (7, 'A'), (8, 'B');"
                )
                self.becomes("UPDATE berths SET pier = 'B'; DELETE FROM piers WHERE id = 1", first=first)
                self.assertEqual(self.server.ask("SELECT pier FROM berths ORDER BY id"), [("B",), ("B",)])
                self._exchanged()
                with self.assertRaises(ConflictError) as caught:
                    files = self.server.files()
                    self.server.put(edited(files, "db/piers.records.json", lambda t: t["records"].pop("3")))
                self.assertEqual(caught.exception.code, "database.broken")
                self.assertIn("a record of berths", caught.exception.message)

    def _exchanged(self) -> None:
        """Signs of piers change places; the berths stay with the sign they name."""

        def exchange(tree: Any) -> None:
            tree["records"]["2"]["sign"], tree["records"]["3"]["sign"] = "C", "B"

        self.server.put(edited(self.server.files(), "db/piers.records.json", exchange))
        self.assertEqual(self.server.ask("SELECT id FROM piers WHERE sign = 'B'"), [(3,)])
        self.assertEqual(self.server.ask("SELECT pier FROM berths ORDER BY id"), [("B",), ("B",)])

    def test_a_foreign_key_stays_as_it_was_declared(self) -> None:
        declared = "SELECT conname, pg_get_constraintdef(oid) FROM pg_constraint WHERE contype = 'f' ORDER BY conname"
        self.server.run(
            "CREATE TABLE piers (a INTEGER, b INTEGER, PRIMARY KEY (a, b));"
            "CREATE TABLE berths (id INTEGER PRIMARY KEY, a INTEGER, b INTEGER, c INTEGER, d INTEGER,"
            ' CONSTRAINT "at a 100 %" FOREIGN KEY (a, b) REFERENCES piers MATCH FULL ON DELETE CASCADE,'
            " CONSTRAINT later FOREIGN KEY (c, d) REFERENCES piers ON UPDATE SET NULL DEFERRABLE,"
            " CONSTRAINT plain FOREIGN KEY (b, d) REFERENCES piers);"
            "INSERT INTO piers VALUES (1, 1), (2, 2), (1, 2); INSERT INTO berths VALUES (1, 1, 1, 2, 2), (2, 2, 2, NULL, NULL)"
        )
        before = self.server.ask(declared)
        files = self.server.files()
        files = edited(files, "db/berths.records.json", lambda t: t["records"]["1"].update(a=2, b=2, c=2, d=2))
        self.server.put(
            edited(
                files, "db/piers.records.json", lambda t: t["records"].clear() or t["records"].update({"[2, 2]": {}})
            )
        )
        self.assertEqual(self.server.ask(declared), before)

    def test_triggers_do_not_run_while_records_are_put(self) -> None:
        self.server.run(
            "CREATE TABLE tides (id INTEGER PRIMARY KEY, height REAL, at TEXT);"
            "CREATE FUNCTION stamp() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN NEW.at = 'now'; RETURN NEW; END $$;"
            "CREATE TRIGGER stamped BEFORE INSERT OR UPDATE ON tides FOR EACH ROW EXECUTE FUNCTION stamp();"
            'CREATE TRIGGER "never" BEFORE DELETE ON tides FOR EACH ROW EXECUTE FUNCTION stamp();'
            'ALTER TABLE tides DISABLE TRIGGER "never"; INSERT INTO tides VALUES (1, 2.5)'
        )
        path = "db/tides.records.json"
        files = edited(self.server.files(), path, lambda t: t["records"]["1"].update(height=0.5, at="noon"))
        self.server.put(edited(files, path, lambda t: t["records"].update({"2": {"height": 1.5, "at": "dawn"}})))
        self.server.run("INSERT INTO tides VALUES (3, 2)")
        self.assertEqual(self.server.ask("SELECT at FROM tides ORDER BY id"), [("noon",), ("dawn",), ("now",)])
        enabled = self.server.ask("SELECT tgname, tgenabled::text FROM pg_trigger WHERE NOT tgisinternal ORDER BY 1")
        self.assertEqual(enabled, [("never", "D"), ("stamped", "O")])

    def test_a_column_whose_values_its_new_type_cannot_hold_changes_nothing(self) -> None:
        self.server.run(SKERRY)
        before = self.server.files()
        files = edited(before, "db/crew.table.json", lambda t: t["columns"][1].update(type="INTEGER"))
        files = edited(files, "db/crew.records.json", lambda t: [r.update(name=1) for r in t["records"].values()])
        with self.assertRaises(ConflictError) as caught:
            self.server.put(files)
        self.assertEqual(caught.exception.code, "database.refused")
        self.assertNotIn("Maren", str(caught.exception))
        self.assertEqual(self.server.files(), before)

    def test_columns_are_renamed_on_both_sides_of_a_foreign_key(self) -> None:
        self.server.run(SKERRY)
        files = edited(
            self.server.files(), "db/harbours.table.json", lambda t: t["columns"][0].update(name="id", was="code")
        )
        files = edited(files, "db/harbours.table.json", lambda t: t.update(key=["id"]))
        files = edited(files, "db/harbours.records.json", lambda t: t.update(key=["id"]))
        files = edited(files, "db/vessels.table.json", lambda t: t["references"][0].update(there=["id"]))
        self.server.put(files)
        self.assertEqual(self.server.ask("SELECT id FROM harbours ORDER BY id"), [("SK",), ("TB",)])
        with self.assertRaises(psycopg.errors.ForeignKeyViolation):
            self.server.run("UPDATE vessels SET home = 'nowhere'")

    def test_a_record_that_names_nothing_changes_nothing(self) -> None:
        self.server.run(SKERRY)
        before = self.server.files()
        for path, change in (
            ("db/crew.records.json", lambda t: t["records"]["4"].update(under=77)),
            ("db/crew.records.json", lambda t: t["records"].pop("9")),
            ("db/harbours.records.json", lambda t: t["records"]["SK"].update(flagship="GANNET")),
        ):
            with self.assertRaises(ConflictError) as caught:
                self.server.put(edited(before, path, change))
            self.assertEqual(caught.exception.code, "database.broken")
            self.assertEqual(self.server.files(), before)


class ValueTests(ServerCase):
    """Whatever a type holds comes back, and a value of a file is told as the server tells it."""

    KINDS: ClassVar = {
        "NUMERIC(8, 2)": ("4.5", "4.50"),
        "NUMERIC": ("NaN", "NaN"),
        "DATE": ("infinity", "infinity"),
        "TIMESTAMP": ("2026-11-25T04:00", "2026-11-25 04:00:00"),
        "TIMESTAMP(0)": ("2026-11-25 04:00:00.7", "2026-11-25 04:00:01"),
        "TIMESTAMP WITH TIME ZONE": ("2026-11-25T04:00:00.250+02:00", "2026-11-25 02:00:00.25+00"),
        "TIME WITH TIME ZONE": ("04:00+02", "04:00:00+02"),
        "INTERVAL": ("1 month 25 hours", "1 mon 25:00:00"),
        "CHAR(5)": ("ab", "ab"),
        "BOOLEAN": (1, True),
        "UUID": ("6F9619FF8B86D011B42D00C04FC964FF", "6f9619ff-8b86-d011-b42d-00c04fc964ff"),
        "INET": ("10.0.0.1", "10.0.0.1/32"),
        "BIT VARYING(9)": ("101", "101"),
        "INT4RANGE": ("[1,3]", "[1,4)"),
        "TSVECTOR": ("tern a", "'a' 'tern'"),
        "JSONB": ({"a": [1, None, "x"]}, {"a": [1, None, "x"]}),
        "JSON": ("only a text", "only a text"),
        "BYTEA": ({"base64": "AP8="}, {"base64": "AP8="}),
        "TEXT[]": (["a", None, 'b,"c'], ["a", None, 'b,"c']),
        "INTEGER[]": ([[1, 2], [3, 4]], [[1, 2], [3, 4]]),
        "NUMERIC(8, 2)[]": ([1, "2.5"], ["1.00", "2.50"]),
        "DATE[]": (["2026-11-25", "infinity"], ["2026-11-25", "infinity"]),
        "DOUBLE PRECISION": ({"real": "inf"}, {"real": "inf"}),
    }

    def _files(self, values: dict[str, Any]) -> dict[str, bytes]:
        columns = [{"name": "id", "type": "INTEGER", "required": True}]
        columns += [{"name": f"c{n}", "type": type_} for n, type_ in enumerate(values)]
        table = {"form": "database table 1", "table": "kinds", "columns": columns, "key": ["id"]}
        row = {f"c{n}": value for n, value in enumerate(values.values())}
        records = {"form": "database records 1", "table": "kinds", "key": ["id"], "records": {"1": row}}
        return {
            "db/kinds.table.json": json.dumps(table).encode(),
            "db/kinds.records.json": json.dumps(records).encode(),
        }

    def test_every_type_is_told_as_the_server_tells_it(self) -> None:
        self.server.put(self._files({type_: given for type_, (given, _) in self.KINDS.items()}))
        row = json.loads(self.server.files()["db/kinds.records.json"])["records"]["1"]
        self.assertEqual(list(row.values()), [told for _, told in self.KINDS.values()])
        self.assertEqual(self.server.steps(self.server.files()), [])

    def test_what_a_type_cannot_hold_is_refused_by_the_file_s_name(self) -> None:
        for type_, value in (
            ("DATE", "some day"),
            ("INTERVAL", "long"),
            ("VARCHAR(3)", "tern"),
            ("INTEGER[]", 3),
            ("UUID", "x"),
            ("NUMERIC(4, 1)", "1.25"),
            ("SMALLINT", 40_000),
            ("BOOLEAN", "perhaps"),
            ("BYTEA", "x"),
            ("INET", "pier"),
        ):
            with self.subTest(type_), self.assertRaises(InvalidError) as caught:
                self.server.put(self._files({type_: value}))
            self.assertIn("db/kinds.records.json: record '1', c0: ", caught.exception.message)
            if isinstance(value, str) and len(value) > 1:  # it may be a secret
                self.assertNotIn(value, caught.exception.message)
        self.assertEqual(self.server.files(), {})

    def test_records_stand_in_the_order_of_what_is_told_of_their_key(self) -> None:
        for type_, keys in (
            ("NUMERIC", "9, 10, 1.5"),
            ("DATE", "'2026-01-02', '2026-01-01'"),
            ("TEXT", "'b', 'A', 'a'"),
            ("INET", "'10.0.0.2', '9.0.0.1'"),
        ):
            with self.subTest(type_):
                self.server = Server(self.base)
                self.server.run(
                    f"CREATE TABLE t (k {type_} PRIMARY KEY); INSERT INTO t SELECT unnest(ARRAY[{keys}]::{type_}[])"
                )
                files = self.server.files()
                self.server = Server(self.base)
                self.server.put(files)
                self.assertEqual(self.server.files(), files)

    def test_indexes_come_along_however_they_are_kept(self) -> None:
        asked = "SELECT indexdef FROM pg_indexes WHERE schemaname = 'public' AND tablename = 'notes' ORDER BY 1"
        self.server.run(
            'CREATE TABLE notes (id INTEGER PRIMARY KEY, "Said what" TEXT, tags TEXT[], more JSONB, "order" INTEGER);'
            "CREATE INDEX a ON notes USING gin (tags); CREATE INDEX b ON notes USING gin (more jsonb_path_ops);"
            'CREATE INDEX c ON notes ("Said what" text_pattern_ops DESC NULLS LAST) INCLUDE ("order") WHERE id > 3;'
            'CREATE UNIQUE INDEX d ON notes (lower("Said what") DESC, "order"); CREATE INDEX e ON notes USING hash (id);'
            "CREATE INDEX f ON notes ((more->>'a'), \"Said what\")"
        )
        files, known = self.server.files(), self.server.ask(asked)
        self.server = Server(self.base)
        self.server.put(files)
        self.assertEqual(self.server.ask(asked), known)
        self.assertEqual(self.server.files(), files)

    def test_statements_do_not_reach_beyond_themselves(self) -> None:
        self.server.run("CREATE TABLE kept (id INTEGER PRIMARY KEY)")
        for path, data in (
            ("db/large.view.sql", b"CREATE VIEW large AS SELECT 1; DROP TABLE kept"),
            ("db/large.view.sql", b"CREATE VIEW large AS SELECT $$'$$; DROP TABLE kept; --'"),
            ("db/large.view.sql", b"CREATE VIEW large AS SELECT E'\\''; DROP TABLE kept; --'"),
        ):
            with self.assertRaises(InvalidError):
                self.server.put({**self.server.files(), path: data})
        self.assertIn("db/kept.table.json", self.server.files())


# --- laws ----------------------------------------------------------------------------

_TABLES = ("harbours", "Odd vessels", "crew")
_ACTIONS = st.sampled_from(
    ["", " ON DELETE CASCADE", " ON DELETE SET NULL", " ON DELETE RESTRICT", " ON UPDATE CASCADE"]
)
_NUMBERS = st.sampled_from(["INTEGER", "BIGINT", "NUMERIC(8, 2)"])
_NAMES = st.sampled_from(["NULL", "'Tern'", "'Puffin''s'", "'100 %'", "''"])


@st.composite
def structures(draw: Any) -> dict[str, dict[str, tuple[str, str]]]:
    """Table -> column -> how it is declared, and the foreign key it has."""
    there = draw(st.lists(st.sampled_from(_TABLES), unique=True, min_size=1))
    found: dict[str, dict[str, tuple[str, str]]] = {}
    for name in there:
        columns = {"id": ("INTEGER PRIMARY KEY", "")}
        if draw(st.booleans()):
            said = draw(_NUMBERS) + draw(st.sampled_from(["", " UNIQUE"]))
            columns["rank"] = said + draw(st.sampled_from(["", " NOT NULL DEFAULT 0"])), ""
        if draw(st.booleans()):
            columns["said"] = "TEXT" + draw(st.sampled_from(["", " DEFAULT 'x'", " CHECK (length(said) < 9)"])), ""
        for column in ("up", "beside"):
            if draw(st.booleans()):
                columns[column] = "INTEGER", draw(st.sampled_from(there)) + draw(_ACTIONS)
        found[name] = columns
    return found


@st.composite
def scripts(draw: Any, structure: dict[str, dict[str, tuple[str, str]]]) -> str:
    """What makes these tables, with records that name each other."""
    made, filled, named = [], [], []
    ids = {name: draw(st.lists(st.integers(1, 5), unique=True, max_size=5)) for name in structure}
    for name, columns in structure.items():
        size, values = len(ids[name]), {"id": list(map(str, ids[name]))}
        for column, (_, key) in columns.items():
            if column == "rank":
                values[column] = list(map(str, draw(st.permutations(range(1, size + 1)))))
            elif column == "said":
                values[column] = draw(st.lists(_NAMES, min_size=size, max_size=size))
            elif key:
                other, space, acts = key.partition(" ON")
                targets = st.sampled_from(["NULL", *map(str, ids[other])])
                values[column] = draw(st.lists(targets, min_size=size, max_size=size))
                named.append(f'ALTER TABLE "{name}" ADD FOREIGN KEY ({column}) REFERENCES "{other}"{space}{acts}')
        made.append(f'CREATE TABLE "{name}" ({", ".join(f"{n} {said}" for n, (said, _) in columns.items())})')
        rows = ", ".join(f"({', '.join(row)})" for row in zip(*values.values(), strict=True))
        filled += [f'INSERT INTO "{name}" ({", ".join(columns)}) VALUES {rows}'] if rows else []
    return "; ".join((*made, *filled, *named))


@st.composite
def pairs(draw: Any) -> tuple[str, str]:
    """Two databases; often of one structure, so that only records differ, or of one that differs in a table."""
    one = draw(structures())
    other = draw(st.one_of(st.just(one), st.just(one), structures()))
    if draw(st.booleans()):
        other = {name: one.get(name, columns) for name, columns in other.items()}
        other = {
            n: {c: s for c, s in cs.items() if not s[1] or s[1].partition(" ON")[0] in other} for n, cs in other.items()
        }
    return draw(scripts(one)), draw(scripts(other))


class LawTests(ServerCase):
    """For tables, foreign keys and records drawn at random."""

    @law(60)
    @given(pairs())
    def test_any_database_becomes_any_other(self, pair: tuple[str, str]) -> None:
        one, other = pair
        server = Server(self.base)
        server.run(other)
        wanted, keys, rows = server.files(), self._keys(server), self._rows(server)
        server = Server(self.base)
        server.run(one)
        server.put(wanted)
        self.assertEqual((self._keys(server), self._rows(server)), (keys, rows))
        self.assertEqual(server.steps(wanted), [])

    @staticmethod
    def _keys(server: Server) -> list[Any]:
        query = "SELECT conrelid::regclass::text, pg_get_constraintdef(oid) FROM pg_constraint"
        here = "connamespace = 'public'::regnamespace AND conrelid <> 'everyshelf_deployments'::regclass"
        there = server.ask("SELECT to_regclass('everyshelf_deployments')")[0][0]
        return sorted(server.ask(f"{query} WHERE {here if there else here.partition(' AND')[0]}"))

    @staticmethod
    def _rows(server: Server) -> dict[str, Any]:
        found = server.ask("SELECT tablename FROM pg_tables WHERE schemaname = 'public' ORDER BY 1")
        names = [n for (n,) in found if not n.startswith("everyshelf")]
        return {n: sorted(server.ask(f'SELECT to_jsonb(t)::text FROM "{n}" t')) for n in names}
