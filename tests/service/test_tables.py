"""Tables over HTTP, through the client: rows page by page, large ones by a job, reports with their cells."""

from __future__ import annotations

import json
from typing import Any

from everyshelf.client import ProblemError
from everyshelf.core.answers.tables import RowCounts
from everyshelf.demo.ledgers import database_pair
from everyshelf.demo.tables import mend_sailings, sailings
from tests.support.factories import ServiceCase, Terminal
from tests.support.waiting import until


def table(rows: int, *, fare: int = 0, every: int = 0) -> bytes:
    """``rows`` tickets of 60 bytes; every so-manieth has another fare."""
    filling = "from the harbour office at Aldwick by the northern gate"
    return b"ticket,note,fare\n" + b"".join(
        b"%d,%s %d,%d\n" % (n, filling.encode(), n % 97, 12 + (fare if every and n % every == 0 else 0))
        for n in range(rows)
    )


class RowTests(ServiceCase):
    """The rows that differ."""

    def setUp(self) -> None:
        super().setUp()
        self.put({"sailings.csv": sailings(34)})
        self.shelf.make_tag("one")
        lines = mend_sailings(sailings(34), 2).decode().splitlines()
        self.put(
            {
                "sailings.csv": "\n".join(
                    [*lines[:500], *lines[520:], "99001,2026-03-01,06:40,Brae,Corran,Fulmar,9,0,sailed"]
                ).encode()
            }
        )

    def test_pages_hold_every_row_once_and_in_order(self) -> None:
        counts = self.shelf.compare_artifact("sailings.csv", "tag:one").table.rows
        self.assertEqual((counts.added, counts.removed), (1, 20))
        seen: list[tuple[str, int]] = []
        while True:
            page = self.shelf.compare_rows("sailings.csv", "tag:one", start=len(seen), count=7)
            seen += [(r.action, r.rows[1] or r.rows[0]) for r in page.rows]
            if not page.rows:
                break
        self.assertEqual(len(seen), len(set(seen)))
        self.assertEqual(page.total, len(seen))
        self.assertEqual(len(seen), counts.added + counts.removed + counts.changed)
        self.assertEqual([row for _, row in seen], sorted(row for _, row in seen))

    def test_rows_of_one_action_or_column(self) -> None:
        removed = self.shelf.compare_rows("sailings.csv", "tag:one", action="removed")
        self.assertEqual((removed.total, {r.action for r in removed.rows}), (20, {"removed"}))
        self.assertIsNone(removed.rows[0].after)
        mended = self.shelf.compare_rows("sailings.csv", "tag:one", column="status")
        self.assertGreater(mended.total, 5)
        self.assertEqual({(r.before[8], r.after[8]) for r in mended.rows}, {("late", "sailed")})
        self.assertEqual(self.shelf.compare_rows("sailings.csv", "tag:one", column="vessel").total, 0)

    def test_wrong_questions_are_answered_clearly(self) -> None:
        with self.assertRaises(ProblemError) as raised:
            self.shelf.compare_rows("sailings.csv", "tag:one", action="moved")
        self.assertEqual(raised.exception.problem["code"], "input.action")
        with self.assertRaises(ProblemError) as raised:
            self.shelf.compare_rows("sailings.csv", "tag:one", start=-4)
        self.assertEqual(raised.exception.problem["code"], "input.number")
        self.put({"notes.md": b"# A\n"})
        self.assertEqual(self.shelf.compare_rows("notes.md", "tag:one").rows, [])

    def test_states_leave_rows_to_the_artifacts_page(self) -> None:
        told = self.shelf.compare("tag:one").artifacts[0].table
        self.assertEqual((told.details, told.profiles), ([], []))
        self.assertEqual(told.rows.removed, 20)

    def test_reports_and_terminal_show_cells(self) -> None:
        for form in ("html", "md"):
            text = self.shelf.compare_report("tag:one", path="sailings.csv", form=form)
            self.assertIn("Kolmogorov-Smirnov distance", text)
            self.assertIn("99001", text)
        plain = json.loads(self.shelf.compare_report("tag:one", path="sailings.csv", form="json"))
        self.assertEqual(plain["artifacts"][0]["table"]["rows"]["added"], 1)
        said = Terminal(self, self.service).run("compare", "tag:one", "main", "sailings.csv", "--shelf", self.shelf.key)
        self.assertRegex(said.stdout, r"status late → sailed")
        self.assertIn("more rows differ", said.stdout)

    def test_rows_of_one_table_of_a_database(self) -> None:
        pair = database_pair()
        self.put({"counter.sqlite": pair.before})
        self.shelf.make_tag("two")
        self.put({"counter.sqlite": pair.after})
        found = self.shelf.compare_artifact("counter.sqlite", "tag:two")
        self.assertEqual(found.headline, pair.says)
        sales = self.shelf.compare_rows("counter.sqlite", "tag:two", table="sales", action="removed")
        self.assertEqual([r.before[0] for r in sales.rows], ["70003", "70017"])
        self.assertEqual(self.shelf.compare_rows("counter.sqlite", "tag:two", table="clerks").total, 5)
        self.assertEqual(self.shelf.compare_rows("counter.sqlite", "tag:two", table="none").total, 0)
        self.assertEqual(list(self.shelf.outline("counter.sqlite").tables), ["clerks", "sales"])
        for form in ("html", "md"):
            text = self.shelf.compare_report("tag:two", path="counter.sqlite", form=form)
            self.assertIn("70900", text)
        said = Terminal(self, self.service).run(
            "compare", "tag:two", "main", "counter.sqlite", "--shelf", self.shelf.key
        )
        self.assertIn("vouchers", said.stdout)
        self.assertIn("paid 10.45 → 9.5", said.stdout)

    def test_artifact_shows_profiles(self) -> None:
        found = self.shelf.outline("sailings.csv").table
        profiles = {p.column: p.after for p in found.profiles}
        self.assertEqual(profiles["vessel"].distinct, 3)
        self.assertEqual(sum(profiles["passengers"].bins), found.row_count)


class LargeTests(ServiceCase):
    """What takes too long for a request."""

    def test_large_table_is_compared_by_a_job(self) -> None:
        rows = 1_050_000
        self.put({"tickets.csv": table(rows)})
        self.shelf.make_tag("one")
        self.put({"tickets.csv": table(rows, fare=3, every=1000)})
        seen: list[Any] = []
        found = self.shelf.compare_artifact("tickets.csv", "tag:one", on_progress=seen.append)
        self.assertEqual(found.table.rows, RowCounts(added=0, removed=0, changed=1050, before=rows, after=rows))
        last = self.shelf.compare_rows("tickets.csv", "tag:one", start=1049)
        self.assertEqual((last.total, last.rows[0].after[0]), (1050, "1049000"))
        self.assertEqual({job.kind for job in seen}, {"compare-artifact"})


class FingerprintTests(ServiceCase):
    """Large tables are known by what they hold, which a job finds out after the commit."""

    ROWS = 90_000

    def setUp(self) -> None:
        super().setUp()
        head, *lines = table(self.ROWS, fare=1, every=977).splitlines()
        self.sorted = b"\n".join([head, *lines, b""])
        self.turned = b"\n".join(
            [head.replace(b",", b";"), *(line.replace(b",", b";") for line in reversed(lines)), b""]
        )

    def commit(self, data: bytes) -> str:
        made = self.put({"data/tickets.csv": data})
        until(lambda: self.shelf.history("data/tickets.csv")[0].effect, "the job after the commit did not end")
        return made.commit

    def test_a_table_written_anew_is_the_same_without_being_read(self) -> None:
        self.commit(self.sorted)
        self.commit(self.turned)
        version = self.shelf.history("data/tickets.csv")[0]
        self.assertEqual(version.effect, "cosmetic")
        found = self.shelf.compare_artifact("data/tickets.csv", "version:1", "version:2")
        self.assertEqual(found.effects | {"cosmetic": 0}, {"breaks": 0, "alters": 0, "cosmetic": 0})
        self.assertEqual(found.table.rows, RowCounts(added=0, removed=0, changed=0, before=self.ROWS, after=self.ROWS))
        self.assertEqual([(f.field, f.before, f.after) for f in found.findings], [("delimiter", ",", ";")])
        # Nobody read a row for that, so none is kept for looking at.
        self.assertEqual(self.shelf.compare_rows("data/tickets.csv", "version:1", "version:2").rows, [])

    def test_another_cell_is_another_table(self) -> None:
        self.commit(self.sorted)
        self.commit(self.turned.replace(b"\n4711;", b"\n4711;by "))
        found = self.shelf.compare_artifact("data/tickets.csv", "version:1", "version:2")
        self.assertEqual(found.table.rows.changed, 1)
