"""A table that lost all its rows, or got its first ones, in every form that a table has."""

from __future__ import annotations

import json
import sqlite3
import subprocess
import tempfile
import unittest
from pathlib import Path

import openpyxl
import pyarrow as pa
import pyarrow.parquet as pq
from pyarrow import ipc

from everyshelf.core.compare.artifact import ArtifactSide, compare_artifacts, compare_as_text

_ROWS = [{"id": n, "fare": n * 1.5, "zone": f"Z{n % 5}"} for n in range(200)]
_SCHEMA = pa.schema([("id", pa.int64()), ("fare", pa.float64()), ("zone", pa.string())])


def _write(folder: Path, rows: list[dict[str, object]]) -> list[Path]:
    """The same table in each form; gives the files and folders."""
    table = pa.Table.from_pylist(rows, _SCHEMA)
    pq.write_table(table, folder / "t.parquet")
    with ipc.new_file(str(folder / "t.arrow"), _SCHEMA) as arrow:
        arrow.write_table(table)
    lines = [f"{r['id']},{r['fare']},{r['zone']}" for r in rows]
    (folder / "t.csv").write_text("\n".join(["id,fare,zone", *lines]) + "\n")
    (folder / "t.jsonl").write_text("".join(json.dumps(row) + "\n" for row in rows))
    records = sqlite3.connect(folder / "t.sqlite")
    records.execute("CREATE TABLE t (id INTEGER PRIMARY KEY, fare REAL, zone TEXT)")
    records.executemany("INSERT INTO t VALUES (:id, :fare, :zone)", rows)
    records.commit()
    records.close()
    book = openpyxl.Workbook()
    for row in [["id", "fare", "zone"], *([r["id"], r["fare"], r["zone"]] for r in rows)]:
        book.active.append(row)
    book.save(folder / "t.xlsx")
    for zone in range(5):
        part = folder / "parts" / f"zone=Z{zone}"
        part.mkdir(parents=True)
        of_zone = pa.Table.from_pylist([r for r in rows if r["zone"] == f"Z{zone}"], _SCHEMA).drop_columns(["zone"])
        pq.write_table(of_zone, part / "part-0.parquet")
    return sorted([*folder.glob("t.*"), folder / "parts"])


class EmptiedTests(unittest.TestCase):
    def setUp(self) -> None:
        folder = Path(tempfile.mkdtemp(prefix="es-emptied-"))
        self.addCleanup(subprocess.run, ["rm", "-rf", str(folder)], check=True)
        for name in ("full", "empty"):
            (folder / name).mkdir()
        self.full, self.empty = _write(folder / "full", _ROWS), _write(folder / "empty", [])

    def test_each_form_is_read_and_its_rows_are_counted(self) -> None:
        for full, empty in zip(self.full, self.empty, strict=True):
            for before, after, action in ((full, empty, "removed"), (empty, full, "added")):
                with self.subTest(full.name, action=action):
                    found = compare_artifacts(ArtifactSide(full.name, path=before), ArtifactSide(full.name, path=after))
                    if full.suffix == ".jsonl":  # without a record it is an empty text, and says so
                        self.assertFalse(found.judged)
                        continue
                    self.assertTrue(found.judged, found.note)
                    self.assertEqual(found.answer().counts[action], 1, found.answer())
                    self.assertNotIn("failed", found.note)

    def test_two_empty_ones_are_the_same(self) -> None:
        for empty in self.empty:
            with self.subTest(empty.name):
                found = compare_artifacts(ArtifactSide("t", path=empty), ArtifactSide("t", path=empty))
                self.assertEqual(found.findings, [])

    def test_a_folder_that_is_not_read_as_a_table_is_told_as_bytes(self) -> None:
        parts = self.full[0]
        self.assertTrue(parts.is_dir())
        found = compare_as_text(
            ArtifactSide("p", path=parts), ArtifactSide("p", path=self.empty[0]), "it took too long"
        )
        self.assertEqual((found.answer().read_as, found.judged), ("bytes", False))


if __name__ == "__main__":
    unittest.main()
