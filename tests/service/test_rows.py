"""The rows of a table by pages: through the API, the client and the command line, small and too large for an answer."""

from __future__ import annotations

import csv
import io
import json

import httpx

from everyshelf.client import ProblemError
from everyshelf.demo.ledgers import database_pair
from tests.support.factories import ServiceCase, Terminal

FARES = b"zone,class,fare\n" + b"".join(
    b"Z%02d,%s,%d.50\n" % (n % 7, (b"adult", b"child")[n % 2], (n * 37) % 400) for n in range(400)
)


class RowsTests(ServiceCase):
    """What a version's rows are, sorted and with conditions."""

    def test_pages_sorted_and_filtered(self) -> None:
        self.put({"fares.csv": FARES})
        found = self.shelf.rows("fares.csv", sort=["-fare"], where=["class is child"], count=3)
        self.assertEqual((found.total, found.row_count, found.start), (200, 400, 0))
        fares = [float(row[2] or 0) for row in found.rows]
        self.assertEqual(fares, sorted(fares, reverse=True))
        self.assertEqual({row[1] for row in found.rows}, {"child"})
        last = self.shelf.rows("fares.csv", start=399, count=50)
        self.assertEqual((last.numbers, last.rows[0]), ([400], ["Z00", "child", f"{(399 * 37) % 400}.50"]))

    def test_each_version_has_its_own(self) -> None:
        self.put({"fares.csv": FARES})
        self.shelf.make_tag("one")
        self.put({"fares.csv": FARES + b"Z99,adult,1.50\n"})
        self.assertEqual(self.shelf.rows("fares.csv").total, 401)
        self.assertEqual(self.shelf.rows("fares.csv", "tag:one").total, 400)
        self.assertEqual(self.shelf.rows("fares.csv", version=1).total, 400)

    def test_tables_of_a_database(self) -> None:
        self.put({"counter.sqlite": database_pair().before})
        outline = self.shelf.outline("counter.sqlite")
        for name, table in (outline.tables or {}).items():
            found = self.shelf.rows("counter.sqlite", table=name)
            self.assertEqual((found.total, found.rows[:5]), (table.row_count, table.rows[:5]), name)
        with self.assertRaises(ProblemError) as caught:
            self.shelf.rows("counter.sqlite", table="nowhere")
        self.assertEqual(caught.exception.code, "rows.no_table")
        self.assertIn("sales", str(caught.exception))

    def test_what_is_not_a_table_or_does_not_fit_it(self) -> None:
        self.put({"fares.csv": FARES, "notes.md": b"# Notes\n"})
        for code, path, wanted in (
            ("rows.no_table", "notes.md", {}),
            ("rows.column", "fares.csv", {"sort": ["price"]}),
            ("rows.condition", "fares.csv", {"where": ["fare over ten"]}),
            ("artifact.missing", "gone.csv", {}),
            ("input.number", "fares.csv", {"start": -1}),
        ):
            with self.subTest(code=code), self.assertRaises(ProblemError) as caught:
                self.shelf.rows(path, **wanted)  # type: ignore[arg-type]
            self.assertEqual(caught.exception.code, code)

    def test_a_large_table_is_read_by_a_job_that_the_client_waits_for(self) -> None:
        lines = (f"{n},{n * 7919 % 1_000_003},{'abcdefghij' * 3}\n" for n in range(300_000))
        data = ("id,amount,note\n" + "".join(lines)).encode()
        self.assertGreater(len(data), 8 * 1024 * 1024)
        self.put({"large.csv": data})
        address = f"{self.service.address}/api/v1/shelves/{self.shelf.key}/artifact/rows"
        headers = {"Authorization": f"Bearer {self.service.token()}"}
        first = httpx.get(address, params={"path": "large.csv"}, headers=headers, timeout=60).json()
        self.assertEqual(first["code"], "rows.reading")
        again = httpx.get(address, params={"path": "large.csv"}, headers=headers, timeout=60).json()
        self.assertIn(again.get("job", first["job"]), (first["job"], again.get("job")))
        found = self.shelf.rows("large.csv", start=299_990, count=100)
        self.assertEqual((found.total, len(found.rows), found.numbers[-1]), (300_000, 10, 300_000))
        top = self.shelf.rows("large.csv", sort=["-amount"], count=2)
        known = sorted(((n * 7919 % 1_000_003, n) for n in range(300_000)), reverse=True)[:2]
        self.assertEqual([(row[1], row[0]) for row in top.rows], [(str(a), str(n)) for a, n in known])


class CommandTests(ServiceCase):
    """`everyshelf rows`."""

    def test_listed_saved_and_led_on(self) -> None:
        self.put({"fares.csv": FARES})
        terminal = Terminal(self, self.service)
        terminal.set("EVERYSHELF_SHELF", self.shelf.key)
        shown = terminal.run("rows", "fares.csv", "--where", "class is adult", "--sort=-fare", "--count", "2").stdout
        self.assertIn("fares.csv: 200 of 400 rows, 1 to 2", shown)
        self.assertIn("Next: everyshelf rows fares.csv --start 3 --sort -fare --where 'class is adult'", shown)
        later = terminal.run("rows", "fares.csv", "--start", "399").stdout
        self.assertNotIn("Next:", later)
        self.assertIn("       400  Z00", later)
        told = list(csv.reader(io.StringIO(terminal.run("rows", "fares.csv", "--csv").stdout)))
        self.assertEqual(told, list(csv.reader(io.StringIO(FARES.decode()))))
        as_json = json.loads(terminal.run("rows", "fares.csv", "--count", "1", "--json").stdout)
        self.assertEqual(as_json["row_count"], 400)
        wrong = terminal.run("rows", "fares.csv", "--sort", "price", code=1)
        self.assertIn("it has zone, class, fare", wrong.stderr)
