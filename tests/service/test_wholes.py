"""A folder kept whole is one artifact: for the service, its client, a desk, and whoever downloads it."""

from __future__ import annotations

import io
import tempfile
import unittest
import zipfile
from pathlib import Path

from everyshelf.client import ProblemError
from everyshelf.core.answers.tables import RowCounts
from everyshelf.demo.passages import FOLDER, passages
from tests.support.factories import ServiceCase, Terminal

OLD, NEW = passages(), passages(later=True)
CHANGED = {**dict.fromkeys(OLD.keys() - NEW.keys()), **NEW}
PLANS = {"plans/a.json": b'{"pier": "A"}', "plans/b.json": b'{"pier": "B"}'}


class ServiceTests(ServiceCase):
    """Through the client."""

    def paths(self, *, files: bool = False) -> list[str]:
        return [a.path for a in self.shelf.artifacts("main", files=files)]

    def test_a_partitioned_table_is_one_dataset(self) -> None:
        self.put({**OLD, **PLANS, "tables/part-1.csv": b"a,b\n1,2\n"})
        self.assertEqual(self.paths(), [FOLDER, "plans/a.json", "plans/b.json", "tables/part-1.csv"])
        found = self.shelf.artifact(FOLDER, "main")
        self.assertEqual((found.kind, found.whole, found.version), ("dataset", True, 1))
        self.assertEqual(found.size, sum(map(len, OLD.values())))
        outline = self.shelf.outline(FOLDER, "main")
        self.assertEqual(outline.table.row_count, 1200)
        self.assertIn("season", [c.name for c in outline.table.columns])

    def test_its_versions_are_compared_as_one_table(self) -> None:
        self.put(OLD)
        self.put(CHANGED)
        found = self.shelf.compare_artifact(FOLDER, "version:1", "version:2")
        self.assertEqual(found.table.rows, RowCounts(added=0, removed=0, changed=12, before=1200, after=1200))
        self.assertEqual(found.table.key, ["passage"])
        self.assertEqual([h.version for h in self.shelf.history(FOLDER)], [2, 1])
        states = self.shelf.compare(f"commit:{self.shelf.history(FOLDER)[1].commit}", "main")
        self.assertEqual([a.path for a in states.artifacts], [FOLDER])
        page = self.shelf.compare_rows(FOLDER, "version:1", "version:2", start=0, count=5)
        self.assertEqual(page.total, 12)

    def test_other_files_with_the_same_rows_are_no_change(self) -> None:
        self.put(OLD)
        self.put(CHANGED)
        self.put({**dict.fromkeys(NEW), **OLD})
        found = self.shelf.compare_artifact(FOLDER, "version:1", "version:3")
        self.assertTrue(found.equal)

    def test_it_is_removed_and_brought_back_whole(self) -> None:
        first = self.put({**OLD, **PLANS})
        self.put({FOLDER: None})
        self.assertEqual(self.paths(), sorted(PLANS))
        self.shelf.restore("main", f"commit:{first.commit}", FOLDER)
        found = self.shelf.artifact(FOLDER, "main")
        self.assertEqual((found.whole, found.version), (True, 2))

    def test_it_comes_as_a_zip(self) -> None:
        self.put(OLD)
        target = Path(self.enterContext(tempfile.TemporaryDirectory())) / "passages.zip"
        self.shelf.download(FOLDER, target, "main")
        with zipfile.ZipFile(io.BytesIO(target.read_bytes())) as packed:
            self.assertEqual({f"{FOLDER}/{n}": packed.read(n) for n in packed.namelist()}, OLD)

    def test_rules_say_which_folders_are_whole(self) -> None:
        self.put({**OLD, **PLANS})
        self.put({"shelf.toml": f'[folders]\nwhole = ["plans/"]\napart = ["{FOLDER}"]\n'.encode()})
        self.assertEqual(self.paths(), [*sorted(OLD), "plans", "shelf.toml"])
        self.assertEqual(self.shelf.artifact("plans", "main").kind, "opaque")
        self.put({"shelf.toml": b""})
        self.assertEqual(self.paths(), [*sorted(OLD), "plans", "shelf.toml"], "it stays until somebody changes it")
        self.put({"plans/b.json": b'{"pier": "C"}'})
        found = self.shelf.compare_artifact("plans", "version:1", "version:2")
        self.assertIn("b.json", found.findings[0].part)

    def test_files_inside_are_not_artifacts_of_their_own(self) -> None:
        self.put(OLD)
        inner = next(iter(OLD))
        self.assertEqual(self.paths(files=True), sorted(OLD))
        found = self.shelf.artifact(inner, "main")
        self.assertEqual((found.within, found.version, found.whole), (FOLDER, 1, False))
        with self.assertRaises(ProblemError) as refused:
            self.shelf.text(FOLDER, "main")
        self.assertEqual(refused.exception.code, "artifact.whole")
        with self.assertRaises(ProblemError) as refused:
            self.shelf.unfolded(FOLDER, "main")
        self.assertEqual(refused.exception.code, "unfold.impossible")

    def test_branches_that_changed_one_file_each_conflict_on_the_artifact(self) -> None:
        self.put({**OLD, **PLANS})
        self.shelf.make_branch("tide", "main")
        self.put({"plans/a.json": b"{}"}, branch="tide")
        self.put({next(iter(OLD)): NEW[next(iter(NEW))]})
        self.assertIsNotNone(self.shelf.merge("tide", "main").commit)
        self.assertTrue(self.shelf.artifact(FOLDER, "main").whole)


class DeskTests(ServiceCase):
    """On a desk, through the command line."""

    def setUp(self) -> None:
        super().setUp()
        self.put({**OLD, **PLANS})
        self.terminal = Terminal(self, self.service)
        self.terminal.run("take", self.shelf.key, "desk")
        self.terminal.folder = self.terminal.home / "desk"

    def write_later(self) -> None:
        for path in OLD.keys() - NEW.keys():
            (self.terminal.folder / path).unlink()
        for path, data in NEW.items():
            self.terminal.write(path, data)

    def pending(self) -> dict[str, str]:
        return {a["path"]: a["state"] for a in self.terminal.json("pending")["artifacts"]}

    def test_its_files_are_told_as_one(self) -> None:
        self.assertEqual(self.pending(), {})
        self.write_later()
        self.assertEqual(self.pending(), {FOLDER: "edited"})
        self.assertIn("6 of 6 files", self.terminal.run("pending").stdout.replace("all 6", "6 of 6"))

    def test_it_is_compared_as_one_table(self) -> None:
        self.write_later()
        row = self.terminal.json("compare")["artifacts"][0]
        self.assertEqual((row["path"], row["table"]["rows"]["changed"]), (FOLDER, 12))

    def test_it_is_committed_and_taken_whole(self) -> None:
        self.write_later()
        self.terminal.write("plans/a.json", b"{}")
        self.terminal.run("commit", "--summary", "Counts set right", FOLDER)
        self.assertEqual(self.pending(), {"plans/a.json": "edited"})
        self.assertEqual(self.shelf.artifact(FOLDER, "main").version, 2)
        other = Terminal(self, self.service)
        other.run("take", self.shelf.key, "desk")
        held = {
            p.relative_to(other.home / "desk").as_posix(): p for p in (other.home / "desk" / FOLDER).rglob("*.parquet")
        }
        self.assertEqual({path: file.read_bytes() for path, file in held.items()}, NEW)

    def test_a_folder_is_outlined_as_its_table(self) -> None:
        found = self.terminal.json("outline", FOLDER)
        self.assertEqual((found["kind"], found["table"]["row_count"]), ("dataset", 1200))
        (self.terminal.folder / "empty").mkdir()
        self.assertIn("a folder of 0 files", self.terminal.run("outline", "empty").stdout)

    def test_a_file_more_is_an_edit_of_it(self) -> None:
        self.terminal.write(f"{FOLDER}/season=2026/part-00.parquet", next(iter(NEW.values())))
        self.assertEqual(self.pending(), {FOLDER: "edited"})

    def test_it_is_discarded_whole(self) -> None:
        self.write_later()
        self.terminal.run("discard", FOLDER)
        self.assertEqual(self.pending(), {})


if __name__ == "__main__":
    unittest.main()
