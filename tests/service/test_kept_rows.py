"""Rows kept for paging stay within their bound; what made room is worked out again."""

from __future__ import annotations

import unittest

from tests.service.test_tables import table
from tests.support.factories import commit_files
from tests.support.service import Service

BOUND = 60_000


class KeptRowsTests(unittest.TestCase):
    """A service that keeps little."""

    def setUp(self) -> None:
        self.service = Service(settings={"EVERYSHELF_MAX_ROWS": str(BOUND)})
        self.service.start()
        self.addCleanup(self.service.stop)
        self.client = self.service.client()
        self.addCleanup(self.client.close)
        made = self.client.make_shelf("Kept rows")
        self.shelf = self.client.shelf(made.key)

    def kept(self) -> int:
        return sum(p.stat().st_size for p in (self.service.data / "cache" / "rows").glob("*.parquet*"))

    def test_the_oldest_make_room_and_come_back_when_asked_for(self) -> None:
        names = [f"t{n}.csv" for n in range(6)]
        commit_files(self.shelf, {n: table(3_000 + k) for k, n in enumerate(names)}, "before")
        self.shelf.make_tag("one")
        commit_files(self.shelf, {n: table(3_000 + k, fare=3 + k, every=2) for k, n in enumerate(names)}, "after")
        totals = {}
        for name in names:
            changed = self.shelf.compare_artifact(name, "tag:one").table.rows.changed
            totals[name] = self.shelf.compare_rows(name, "tag:one", count=5).total
            self.assertEqual(totals[name], changed)
            self.assertLessEqual(self.kept(), BOUND + 40_000, "no more than the bound and the newest")
        again = self.shelf.compare_rows(names[0], "tag:one", count=5)
        self.assertEqual((again.total, len(again.rows)), (totals[names[0]], 5))


if __name__ == "__main__":
    unittest.main()
