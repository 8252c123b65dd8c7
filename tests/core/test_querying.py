"""What a query may name, the types its columns get, and that the engine reaches nothing else."""

from __future__ import annotations

import io
import tempfile
import unittest
from pathlib import Path

import openpyxl
import pyarrow as pa
import pyarrow.parquet

from everyshelf.core.errors import InvalidError, UnreadableError
from everyshelf.core.querying.running import Sources, run_query, write_query
from everyshelf.core.querying.statement import named_in, with_views
from everyshelf.core.reading.sheets import sheet_as_table
from everyshelf.core.tables.engine import Engine
from everyshelf.core.tables.given import Given
from everyshelf.core.tables.paging import keep_table
from everyshelf.core.tables.sources import open_table


class StatementTests(unittest.TestCase):
    def replaced(self, sql: str) -> str:
        named = named_in(sql)
        return with_views(sql, named, {one.name: f"v{place}" for place, one in enumerate(named)})

    def test_only_the_names_of_tables_are_replaced(self) -> None:
        for sql, expected in (
            (
                "SELECT a.fare FROM 'data/fares.csv@tag:spring-1' a JOIN \"b.csv\" USING (zone) WHERE x = 'b.csv'",
                'SELECT a.fare FROM "v0" a JOIN "v1" AS "b" USING (zone) WHERE x = \'b.csv\'',
            ),
            ("from 'it''s.csv' select *", 'from "v0" AS "it\'s" select *'),
            (
                "WITH c AS (SELECT * FROM 'c.csv') SELECT * FROM c",
                'WITH c AS (SELECT * FROM "v0" AS "c") SELECT * FROM c',
            ),
            (
                'WITH "c d" AS (SELECT 1 AS n) SELECT * FROM "c d", \'c d\'',
                'WITH "c d" AS (SELECT 1 AS n) SELECT * FROM "c d", "v0" AS "c d"',
            ),
            ("SELECT * FROM commits -- all\n", 'SELECT * FROM "v0" AS "commits" -- all\n'),
            (
                "SELECT n FROM 'a#t@main' UNION SELECT n FROM 'x/b.v2.csv'",
                'SELECT n FROM "v0" AS "t" UNION SELECT n FROM "v1" AS "b"',
            ),
            (
                "SELECT * FROM 'd.csv' WHERE n IN (SELECT n FROM 'e.csv')",
                'SELECT * FROM "v0" AS "d" WHERE n IN (SELECT n FROM "v1" AS "e")',
            ),
            ("SELECT * FROM unnest([1, 2]), range(3)", "SELECT * FROM unnest([1, 2]), range(3)"),
        ):
            with self.subTest(sql):
                self.assertEqual(self.replaced(sql), expected)

    def test_what_is_not_one_query_that_reads(self) -> None:
        for sql in (
            "",
            "SELEC",
            "SELECT 1; SELECT 2",
            "INSERT INTO 'a.csv' SELECT 1",
            "UPDATE 'a.csv' SET n = 1",
            "DELETE FROM 'a.csv'",
            "DROP TABLE a",
            "CREATE TABLE x AS SELECT 1",
            "COPY (SELECT 1) TO 'x.csv'",
            "ATTACH 'x.db' AS x",
            "INSTALL httpfs",
            "SET memory_limit = '9GB'",
            "PRAGMA database_list",
            "SELECT * INTO x FROM 'a.csv'",
            "SELECT * FROM read_csv('/etc/passwd')",
            "SELECT * FROM glob('/*')",
            "SELECT * FROM duckdb_settings()",
            "SELECT * FROM information_schema.tables",
            "SELECT current_setting('allowed_paths')",
            "SELECT " + "(" * 5000 + "1" + ")" * 5000,
            "SELECT 1 -- " + "x" * 20_000,
        ):
            with self.subTest(sql[:60]), self.assertRaises(InvalidError) as caught:
                named_in(sql)
            self.assertEqual(caught.exception.code, "query.statement")
        with self.assertRaises(InvalidError) as caught:
            named_in("SELECT * FROM fares")
        self.assertEqual(caught.exception.code, "query.table")

    def test_a_name_of_the_engine_hides_behind_no_other(self) -> None:
        """A part of the query counts where it is known; elsewhere the same name is a view of the engine."""
        inside = "WITH duckdb_settings AS (SELECT 1 AS n) SELECT * FROM duckdb_settings"
        self.assertEqual(named_in(inside), [])
        for sql in (
            f"SELECT * FROM duckdb_settings, ({inside})",
            f"SELECT * FROM duckdb_settings WHERE 1 IN ({inside})",
            "WITH duckdb_settings AS (SELECT * FROM duckdb_settings) SELECT * FROM duckdb_settings",
            "WITH a AS (SELECT * FROM duckdb_tables), duckdb_tables AS (SELECT 1) SELECT * FROM a",
            f"({inside}) UNION ALL SELECT 1 FROM duckdb_settings",
            "SELECT * FROM (WITH x AS (SELECT 1) SELECT * FROM x) AS y, x",
            "SELECT * FROM sqlite_master",
            "SELECT * FROM pragma_database_list",
        ):
            with self.subTest(sql), self.assertRaises(InvalidError):
                named_in(sql)
        for sql in (
            "WITH a AS (SELECT 1 AS n), b AS (SELECT * FROM a) SELECT * FROM b WHERE EXISTS (SELECT 1 FROM a)",
            "WITH RECURSIVE a AS (SELECT 1 AS n UNION ALL SELECT n + 1 FROM a WHERE n < 3) SELECT * FROM a",
            "WITH a AS (SELECT 1 AS n) SELECT * FROM a UNION ALL SELECT * FROM a",
            "SELECT * FROM (WITH x AS (SELECT 1) SELECT * FROM x) AS y",
        ):
            with self.subTest(sql):
                self.assertEqual(named_in(sql), [])


class RunningTests(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def kept(self, text: str, name: str = "t.csv") -> Path:
        target = self.folder / f"{name}.{len(list(self.folder.iterdir()))}.parquet"
        with Engine() as engine:
            keep_table(engine, open_table(engine, Given(name, text.encode()), "csv"), target)
        return target

    def asked(self, sql: str, text: str, most: int = 100) -> list[tuple[list[str], list[list[str | None]]]]:
        found = run_query(sql, Sources({"v": self.kept(text)}), most)
        return [([column.type for column in found.columns], found.rows)]

    def test_columns_get_the_type_that_holds_every_cell(self) -> None:
        rows = "1,4.50,2026-03-01,yes,007,1.5,06:40\n2,10.25,2026-04-01,no,012,2e3,08:15\n"
        found = run_query("SELECT * FROM v", Sources({"v": self.kept("n,fare,day,open,code,wide,at\n" + rows)}))
        types = {column.name: column.type for column in found.columns}
        self.assertEqual(
            (types["n"], types["fare"], types["day"], types["wide"]), ("bigint", "decimal(18,2)", "date", "double")
        )
        self.assertEqual(types["at"], "time")
        self.assertEqual([row[4] for row in found.rows], ["007", "012"])

    def test_one_odd_cell_far_down_keeps_a_column_as_it_is_written(self) -> None:
        lines = [f"{n},{n}.5" for n in range(30_000)]
        lines[29_000] = "unknown,n/a"
        [(types, rows)] = self.asked("SELECT n, d FROM v WHERE n = 'unknown'", "n,d\n" + "\n".join(lines) + "\n")
        self.assertEqual((types, rows), (["varchar", "varchar"], [["unknown", "n/a"]]))

    def test_sums_are_exact_and_empty_cells_are_nothing(self) -> None:
        text = "name,fare\n" + "a,0.10\n" * 3 + "b,\n"
        [(_, rows)] = self.asked("SELECT sum(fare), count(fare), count(*) FROM v", text)
        self.assertEqual(rows, [["0.30", "3", "4"]])
        long = "n\n123456789012345678901234567890\n"
        self.assertEqual(self.asked("SELECT n FROM v", long)[0][1], [["123456789012345678901234567890"]])

    def test_names_that_are_alike_and_the_order_of_rows(self) -> None:
        found = run_query(
            "SELECT a.n, b.n FROM v a, v b ORDER BY a.n DESC, b.n", Sources({"v": self.kept("n,N,\n1,2,3\n2,4,6\n")}), 3
        )
        self.assertEqual([column.name for column in found.columns], ["n", "n_1"])
        self.assertEqual((found.rows, found.more), ([["2", "1"], ["2", "2"], ["1", "1"]], True))
        numbers = "n\n" + "\n".join(str((n * 7919) % 10_007) for n in range(10_007)) + "\n"
        rows = self.asked("SELECT n FROM v ORDER BY n", numbers, 1000)[0][1]
        self.assertEqual(rows, [[str(n)] for n in range(1000)])

    def test_types_are_found_once(self) -> None:
        kept = self.kept("n\n1\n2\n")
        run_query("SELECT * FROM v", Sources({"v": kept}))
        beside = kept.with_name(f"{kept.name}.types")
        self.assertEqual(beside.read_text(), '["BIGINT"]')
        beside.write_text("broken")
        self.assertEqual(run_query("SELECT sum(n) FROM v", Sources({"v": kept})).rows, [["3"]])

    def test_nothing_else_is_in_reach(self) -> None:
        kept, secret = self.kept("n\n1\n"), self.folder / "secret.csv"
        secret.write_text("password\nhunter2\n")
        for sql in (
            f"SELECT * FROM read_csv('{secret}')",
            f"SELECT * FROM '{secret}'",
            f"SELECT * FROM read_text('{secret}')",
            f"SELECT * FROM glob('{self.folder}/*')",
            "SELECT * FROM read_csv('https://example.org/x.csv')",
            "SELECT * FROM sqlite_scan('x.db', 't')",
            "SELECT * FROM duckdb_secrets()",
            "SELECT getenv('HOME')",
            "SELECT nope FROM v",
            "SELECT 1 / 'a'",
            "SELECT * FROM v) LIMIT 1; SET lock_configuration = false; SELECT * FROM (v",
        ):
            with self.subTest(sql), self.assertRaises(InvalidError) as caught:
                run_query(sql, Sources({"v": kept}))
            self.assertEqual(caught.exception.code, "query.failed")
            self.assertNotIn("hunter2", str(caught.exception))

    def test_a_sheet_is_a_table(self) -> None:
        book = openpyxl.Workbook()
        sheet = book.active
        assert sheet is not None
        sheet.title = "Costs"
        for row in (
            ["Spring 2026"],
            ["Month", "Fuel", "Closed", "Day"],
            ["May", 12.5, True, "2026-05-01"],
            [None, 7, False, None],
        ):
            sheet.append(row)
        data = io.BytesIO()
        book.save(data)
        table = sheet_as_table(Given("budget.xlsx", data.getvalue()), "xlsx", "")
        self.assertEqual(table.columns, ["Month", "Fuel", "Closed", "Day"])
        self.assertEqual(table.rows, [("May", "12.5", "true", "2026-05-01"), ("", "7", "false", "")])
        book.create_sheet("Plan").append([1, 2])
        data = io.BytesIO()
        book.save(data)
        for name in ("", "Nope"):
            with self.assertRaises(UnreadableError) as caught:
                sheet_as_table(Given("budget.xlsx", data.getvalue()), "xlsx", name)
            self.assertIn("Costs, Plan", caught.exception.message)
        self.assertEqual(sheet_as_table(Given("b.xlsx", data.getvalue()), "xlsx", "Plan").columns, ["A", "B"])

    def test_forms_for_programs(self) -> None:
        kept = self.kept("n,d\n1,2026-01-01\n2,2026-01-02\n")
        for sql, count in (("SELECT n, d, n FROM v", 2), ("SELECT n, d, n FROM v WHERE n > 9", 0)):
            arrow, parquet = self.folder / "x.arrow", self.folder / "x.parquet"
            self.assertEqual(write_query(sql, Sources({"v": kept}), arrow, "arrow"), count)
            write_query(sql, Sources({"v": kept}), parquet, "parquet")
            with pa.ipc.open_stream(arrow.read_bytes()) as reader:
                table = reader.read_all()
            self.assertEqual(table.schema.names, ["n", "d", "n_1"])
            self.assertEqual([str(kind) for kind in table.schema.types], ["int64", "date32[day]", "int64"])
            self.assertTrue(pa.parquet.read_table(parquet).equals(table))
        self.assertEqual(write_query("SELECT * FROM range(10)", Sources({}), arrow, "arrow", 4), 4)
