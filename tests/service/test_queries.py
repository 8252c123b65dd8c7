"""SQL over versions: from the client, over HTTP and from the command line, compared with another engine's answers."""

from __future__ import annotations

import io
import json
import random
import sqlite3
import tempfile
from pathlib import Path

import httpx
import openpyxl
import pyarrow as pa
import pyarrow.parquet

from everyshelf.client import ProblemError, Saving
from tests.support.factories import ServiceCase, Terminal

FARES = b"zone,class,fare\nZ01,adult,4.50\nZ01,child,2.25\nZ02,adult,6.00\n"
DEARER = b"zone,class,fare\nZ01,adult,4.80\nZ01,child,2.25\nZ02,adult,6.30\nZ03,adult,7.10\n"
_JOIN = """
SELECT b.zone, b.class, a.fare AS old, b.fare, b.fare - a.fare AS up
FROM 'data/fares.csv@tag:spring-1' a JOIN 'data/fares.csv' b USING (zone, class) WHERE a.fare <> b.fare ORDER BY up, zone"""


class QueryCase(ServiceCase):
    def setUp(self) -> None:
        super().setUp()
        self.put({"data/fares.csv": FARES}, "Fares")
        self.shelf.make_tag("spring-1", "main")
        self.put({"data/fares.csv": DEARER}, "Dearer fares")

    def refused(self, sql: str, code: str, status: int = 400, ref: str | None = None) -> ProblemError:
        with self.assertRaises(ProblemError) as caught:
            self.shelf.query(sql, ref)
        self.assertEqual((caught.exception.code, caught.exception.status), (code, status))
        return caught.exception


class VersionTests(QueryCase):
    def test_two_versions_joined(self) -> None:
        found = self.shelf.query(_JOIN)
        self.assertEqual(
            found.rows, [["Z01", "adult", "4.50", "4.80", "0.30"], ["Z02", "adult", "6.00", "6.30", "0.30"]]
        )
        self.assertEqual(
            [column.type for column in found.columns][2:], ["decimal(18,2)", "decimal(18,2)", "decimal(19,2)"]
        )
        self.assertEqual(
            [(one.path, one.ref, one.version) for one in found.tables],
            [("data/fares.csv", "tag:spring-1", 1), ("data/fares.csv", "main", 2)],
        )

    def test_names_without_a_ref_mean_the_state_that_is_asked(self) -> None:
        count = "SELECT count(*) FROM 'data/fares.csv'"
        self.assertEqual(self.shelf.query(count).rows, [["4"]])
        self.assertEqual(self.shelf.query(count, "tag:spring-1").rows, [["3"]])
        self.shelf.make_branch("ines/short", "main")
        self.put({"data/fares.csv": b"zone,class,fare\n"}, "None left", "ines/short")
        self.assertEqual(self.shelf.query("SELECT count(*) FROM 'data/fares.csv@ines/short'").rows, [["0"]])
        self.shelf.save("main", [Saving("data/fares.csv", self.shelf.upload(FARES[:31]).id)])
        self.assertEqual(self.shelf.query(count, "draft:main").rows, [["1"]])
        self.assertEqual(self.shelf.query("SELECT count(*) FROM 'data/fares.csv@draft:main'").rows, [["1"]])

    def test_every_form_of_table(self) -> None:
        rows = io.BytesIO()
        pa.parquet.write_table(pa.table({"n": [1, 2], "who": pa.array([None, "x"])}), rows)
        arrow = io.BytesIO()
        with pa.ipc.new_file(arrow, pa.schema([("n", pa.int64())])) as writer:
            writer.write_table(pa.table({"n": [7]}))
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "b.sqlite"
            with sqlite3.connect(file) as records:
                records.execute("CREATE TABLE bookings (id INTEGER PRIMARY KEY, fare REAL)")
                records.executemany("INSERT INTO bookings VALUES (?, ?)", [(1, 4.5), (2, 6.5)])
            records.close()
            database = file.read_bytes()
        self.put(
            {
                "rows.parquet": rows.getvalue(),
                "n.arrow": arrow.getvalue(),
                "bookings.sqlite": database,
                "log.jsonl": b'{"n": 1, "who": "ines"}\n{"n": 2, "who": "maren"}\n',
                "odd@name#1.csv": b"n\n5\n",
            },
            "Tables",
        )
        for name, sql, expected in (
            ("parquet", "SELECT sum(n), count(who) FROM 'rows.parquet'", [["3", "1"]]),
            ("arrow", "SELECT n FROM 'n.arrow'", [["7"]]),
            ("database", "SELECT sum(fare) FROM 'bookings.sqlite#bookings@main'", [["11.0"]]),
            ("lines", "SELECT who FROM 'log.jsonl' WHERE n = 2", [["maren"]]),
            ("odd name", "SELECT n FROM 'odd@name#1.csv'", [["5"]]),
        ):
            with self.subTest(name):
                self.assertEqual(self.shelf.query(sql).rows, expected)

    def test_a_workbook_by_its_sheets(self) -> None:
        book = openpyxl.Workbook()
        assert book.active is not None
        book.active.title = "Costs"
        for row in (["Month", "Fuel"], ["May", 12.5], ["June", 7]):
            book.active.append(row)
        data = io.BytesIO()
        book.save(data)
        self.put({"budget.xlsx": data.getvalue()}, "Budget")
        self.assertEqual(self.shelf.query("SELECT sum(Fuel) FROM 'budget.xlsx'").rows, [["19.5"]])
        self.assertEqual(
            self.shelf.query("SELECT Month FROM 'budget.xlsx#Costs@main' WHERE Fuel < 10").rows, [["June"]]
        )
        self.assertEqual(self.shelf.table("budget.xlsx", table="Costs").num_rows, 2)
        self.assertEqual(self.shelf.rows("budget.xlsx", table="Costs").total, 2)

    def test_runs_of_experiments(self) -> None:
        self.shelf.begin_experiment("Does tide height help?", branch="ines/tide", key="tide")
        head = self.put({"errors.txt": b"3.5\n"}, "A run", "ines/tide")
        self.shelf.record_run("tide", "ines/tide", head.commit, parameters={"depth": 6}, metrics={"error": 3.5})
        found = self.shelf.query("SELECT experiment, run, parameters['depth'], metrics['error'] FROM runs")
        self.assertEqual(found.rows, [["tide", "1", "6", "3.5"]])

    def test_lists_of_the_shelf(self) -> None:
        self.assertEqual(
            self.shelf.query("SELECT summary FROM commits ORDER BY recorded").rows, [["Fares"], ["Dearer fares"]]
        )
        self.assertEqual(
            self.shelf.query("SELECT path, kind, version FROM artifacts").rows, [["data/fares.csv", "dataset", "2"]]
        )
        self.assertEqual(self.shelf.query("SELECT version FROM artifacts", "tag:spring-1").rows, [["1"]])
        self.assertEqual(
            self.shelf.query(
                "SELECT v.version, c.summary FROM versions v JOIN commits c ON c.commit = v.commit ORDER BY 1"
            ).rows,
            [["1", "Fares"], ["2", "Dearer fares"]],
        )

    def test_the_same_answers_as_another_engine(self) -> None:
        random_numbers = random.Random(5)
        rows = [(n, random_numbers.choice("abc"), random_numbers.randint(0, 999)) for n in range(3000)]
        changed = [
            (n, k, v + 1 if random_numbers.random() < 0.1 else v) for n, k, v in rows if random_numbers.random() > 0.05
        ]
        other = sqlite3.connect(":memory:")
        for name, held in (("old", rows), ("new", changed)):
            other.execute(f"CREATE TABLE {name} (n INTEGER, k TEXT, v INTEGER)")
            other.executemany(f"INSERT INTO {name} VALUES (?, ?, ?)", held)
            self.put(
                {"data/t.csv": b"n,k,v\n" + b"".join(b"%d,%s,%d\n" % (n, k.encode(), v) for n, k, v in held)}, name
            )
            if name == "old":
                self.shelf.make_tag("old", "main")
        for sql in (
            "SELECT o.k, count(*), sum(w.v - o.v) FROM {old} o JOIN {new} w ON o.n = w.n WHERE o.v <> w.v GROUP BY o.k ORDER BY o.k",
            "SELECT n, v FROM {old} WHERE n NOT IN (SELECT n FROM {new}) ORDER BY v DESC, n LIMIT 40",
            "SELECT k, max(v) - min(v), avg(v) > 400 FROM {new} GROUP BY k HAVING count(*) > 10 ORDER BY k",
            "WITH both_of AS (SELECT n FROM {old} INTERSECT SELECT n FROM {new}) SELECT count(*) FROM both_of",
        ):
            with self.subTest(sql):
                found = self.shelf.query(sql.format(old="'data/t.csv@tag:old'", new="'data/t.csv'")).rows
                wanted = other.execute(sql.format(old="old", new="new")).fetchall()
                plain = [[str(int(c == "true")) if c in ("true", "false") else c for c in row] for row in found]
                self.assertEqual(plain, [[str(cell) for cell in row] for row in wanted])
        other.close()

    def test_a_large_table_is_read_by_a_job_first(self) -> None:
        rows = b"n,v\n" + b"".join(b"%d,%d\n" % (n, n % 1000) for n in range(1_000_000))
        self.put({"large.csv": rows}, "Large")
        self.assertEqual(self.shelf.query("SELECT count(*), sum(v) FROM 'large.csv'").rows, [["1000000", "499500000"]])
        table = self.shelf.query_table("SELECT n, v FROM 'large.csv' WHERE v < 500")
        self.assertEqual((table.num_rows, table.schema.field("v").type), (500_000, pa.int64()))


class RefusedTests(QueryCase):
    def test_what_cannot_be_run(self) -> None:
        self.put({"notes.md": b"# Notes\n"}, "Notes")
        for sql, code, status in (
            ("", "query.statement", 400),
            ("DROP TABLE x", "query.statement", 400),
            ("SELECT * FROM read_csv('/etc/passwd')", "query.statement", 400),
            ("SELECT * FROM fares", "query.table", 400),
            ("SELECT * FROM 'data/none.csv'", "query.table", 404),
            ("SELECT * FROM 'data/fares.csv@tag:none'", "query.table", 404),
            ("SELECT * FROM 'notes.md'", "query.table", 400),
            ("SELECT none FROM 'data/fares.csv'", "query.failed", 400),
            ("SELECT fare + zone FROM 'data/fares.csv'", "query.failed", 400),
        ):
            with self.subTest(sql):
                found = self.refused(sql, code, status)
                self.assertTrue(found.hint)
                self.assertNotIn(str(self.service.data), found.message)
        self.refused("SELECT 1", "branch.missing", 404, "no-such")

    def test_a_query_that_takes_too_much_costs_only_its_answer(self) -> None:
        endless = "SELECT sum(a.range * b.range) FROM range(3000000) a, range(3000000) b"
        address = f"{self.service.address}/api/v1/shelves/{self.shelf.key}/query"
        headers = {"Authorization": f"Bearer {self.service.token()}"}
        answer = httpx.get(address, params={"sql": endless}, headers=headers, timeout=600).json()
        self.assertEqual(answer["code"], "query.working")
        self.client.cancel(answer["job"])
        self.assertEqual(self.shelf.query("SELECT count(*) FROM 'data/fares.csv'").rows, [["4"]])

    def test_rows_are_not_left_out_silently(self) -> None:
        long = "SELECT * FROM range(5000001)"
        with self.assertRaises(ProblemError) as caught:
            self.shelf.query_table(long)
        self.assertEqual(caught.exception.code, "query.rows")
        self.assertEqual(self.shelf.query_table(long, limit=3).num_rows, 3)
        self.assertEqual(self.shelf.query_table("SELECT * FROM range(5000000)").num_rows, 5_000_000)

    def test_rights(self) -> None:
        stranger = self.client_of("stranger").shelf(self.shelf.key)
        with self.assertRaises(ProblemError) as caught:
            stranger.query("SELECT 1")
        self.assertEqual(caught.exception.status, 404)
        self.shelf.set_member("reader", "reader")
        reader = self.client_of("reader", ["read"]).shelf(self.shelf.key)
        self.assertEqual(reader.query("SELECT count(*) FROM 'data/fares.csv'").rows, [["4"]])
        self.shelf.save("main", [Saving("mine.csv", self.shelf.upload(FARES).id)])
        with self.assertRaises(ProblemError) as caught:
            reader.query("SELECT * FROM 'mine.csv@draft:main'")
        self.assertEqual(caught.exception.code, "query.table")


class CommandTests(QueryCase):
    def test_rows_files_and_csv(self) -> None:
        terminal = Terminal(self, self.service)
        shown = terminal.run("query", _JOIN, "--shelf", self.shelf.key).stdout
        self.assertIn("2 rows.", shown)
        self.assertIn("data/fares.csv@tag:spring-1 is data/fares.csv at tag:spring-1, version 1", shown)
        file = terminal.folder / "q.sql"
        file.write_text("SELECT zone, fare FROM 'data/fares.csv' ORDER BY fare DESC;\n")
        told = terminal.run("query", "--from", str(file), "--csv", "--shelf", self.shelf.key).stdout
        self.assertEqual(told.splitlines()[:2], ["zone,fare", "Z03,7.10"])
        first = terminal.run("query", "--from", str(file), "--count", "1", "--shelf", self.shelf.key).stdout
        self.assertIn("1 row, the first of more.", first)
        self.assertIn("Next: everyshelf query --from", first)
        answer = json.loads(terminal.run("query", "--from", str(file), "--json", "--shelf", self.shelf.key).stdout)
        self.assertEqual(answer["rows"][0], ["Z03", "7.10"])
        self.put({"queries/most.sql": file.read_bytes()}, "Saved")
        saved = terminal.run("query", "--saved", "queries/most.sql", "--shelf", self.shelf.key).stdout
        self.assertIn("4 rows.", saved)
        terminal.run("query", "--from", str(file), "--output", "out.parquet", "--shelf", self.shelf.key)
        self.assertEqual(pa.parquet.read_table(terminal.folder / "out.parquet").num_rows, 4)
        wrong = terminal.run("query", "SELECT * FROM 'nope.csv'", "--shelf", self.shelf.key, code=1)
        self.assertIn("query.table", wrong.stderr)
        terminal.run("query", "--shelf", self.shelf.key, code=2)
        terminal.run("query", "SELECT 1", "--output", "x.txt", "--shelf", self.shelf.key, code=2)
