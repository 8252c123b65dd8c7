"""Folders on disk: many files as one table, and file by file."""

from __future__ import annotations

import sqlite3
import unittest
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq

from tests.support.factories import Terminal
from tests.support.service import shared_service


class FolderTests(unittest.TestCase):
    """Through the command line."""

    def setUp(self) -> None:
        self.terminal = Terminal(self, shared_service())
        self.folder = self.terminal.folder

    def rows(self, count: int = 900) -> list[tuple[int, str, float]]:
        return [(n, "ABC"[n % 3], n / 4) for n in range(count)]

    def write_csv(self, path: str, rows: list[tuple[int, str, float]]) -> None:
        lines = [",".join(str(v) for v in row) for row in rows]
        self.terminal.write(path, "\n".join(["sailing,pier,level", *lines, ""]).encode())

    def write_parquet(self, path: str, rows: list[tuple[int, str, float]]) -> None:
        target = self.folder / path
        target.parent.mkdir(parents=True, exist_ok=True)
        numbers, piers, levels = zip(*rows, strict=True)
        pq.write_table(pa.table({"sailing": numbers, "pier": piers, "level": levels}), target)

    def test_the_same_rows_in_other_files_and_another_order_are_no_change(self) -> None:
        rows = self.rows()
        self.write_parquet("old/all.parquet", rows)
        for n in range(12):
            self.write_parquet(f"new/part-{n:02}.parquet", [r for r in rows if r[0] % 12 == n][::-1])
        (self.folder / "new" / "_SUCCESS").write_text("")
        found = self.terminal.json("compare-files", "old", "new")
        self.assertEqual((found["kind"], found["effects"]["alters"], found["effects"]["breaks"]), ("dataset", 0, 0))
        self.assertEqual(found["table"]["rows"]["before"], 900)
        found = self.terminal.json("compare-files", "old/all.parquet", "new")
        self.assertEqual(found["effects"]["alters"], 0)

    def test_what_changed_in_one_of_many_files_is_counted_as_an_engine_of_its_own_counts_it(self) -> None:
        rows = self.rows()
        later = [(n, p, v + 1 if n % 90 == 0 else v) for n, p, v in rows if n % 100 != 7] + [(5000, "Z", 1.0)]
        for n in range(3):
            self.write_csv(f"old/{n}.csv", [r for r in rows if r[0] % 3 == n])
            self.write_csv(f"new/{n}.csv", [r for r in later if r[0] % 3 == n])
        found = self.terminal.json("compare-files", "old", "new", "--key", "sailing")["table"]["rows"]
        records = sqlite3.connect(":memory:")
        self.addCleanup(records.close)
        for name, held in (("a", rows), ("b", later)):
            records.execute(f"CREATE TABLE {name} (sailing INTEGER PRIMARY KEY, pier TEXT, level REAL)")
            records.executemany(f"INSERT INTO {name} VALUES (?, ?, ?)", held)
        changed = "SELECT count(*) FROM a JOIN b USING (sailing) WHERE a.pier <> b.pier OR a.level <> b.level"
        alone = "SELECT count(*) FROM {} WHERE sailing NOT IN (SELECT sailing FROM {})"
        expected = [records.execute(q).fetchone()[0] for q in (changed, alone.format("b", "a"), alone.format("a", "b"))]
        self.assertEqual([found["changed"], found["added"], found["removed"]], expected)

    def test_folders_of_values_are_columns(self) -> None:
        rows = self.rows(60)
        for n, pier in enumerate("ABC"):
            held = [r for r in rows if r[1] == pier]
            self.write_csv(f"old/season=2025/{n}.csv", held)
            self.write_csv(f"new/season={2025 + (pier == 'C')}/{n}.csv", held)
        found = self.terminal.json("compare-files", "old", "new", "--key", "sailing")
        self.assertEqual(found["table"]["cells"], {"season": {"changed": 20, "representation_only": 0}})

    def test_folders_that_are_no_table_are_compared_file_by_file(self) -> None:
        self.terminal.write("old/a/conf.json", b'{"pier": "A"}')
        self.terminal.write("new/a/conf.json", b'{"pier": "B"}')
        self.terminal.write("old/notes.md", b"# One\n")
        self.terminal.write("new/notes/notes.md", b"# One\n")
        (self.folder / "new" / "away").symlink_to("/etc")
        found = self.terminal.json("compare-files", "old", "new")
        self.assertEqual(
            {(f["action"], f["part"].split("/")[1]) for f in found["findings"]},
            {("changed", "member:a%2Fconf.json"), ("renamed", "member:notes%2Fnotes.md")},
        )

    def test_a_folder_against_what_it_cannot_be_compared_with_says_so(self) -> None:
        self.terminal.write("old/conf.json", b'{"pier": "A"}')
        self.terminal.write("plan.bpmn", b"<definitions/>")
        said = self.terminal.run("compare-files", "old", "plan.bpmn").stdout
        self.assertIn("can only be compared with a folder", said)
        self.assertTrue(Path(self.folder, "old", "conf.json").is_file())


if __name__ == "__main__":
    unittest.main()
