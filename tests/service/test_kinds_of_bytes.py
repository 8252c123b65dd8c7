"""Spreadsheets, models, pictures, documents and archives over HTTP, through the client and the command line."""

from __future__ import annotations

import re
import tempfile
from pathlib import Path

from everyshelf.core.answers.pictures import PictureRegion
from everyshelf.demo.documents import document_pairs
from everyshelf.demo.models import model_pairs
from everyshelf.demo.pair import Pair
from everyshelf.demo.workbooks import workbook_pairs
from tests.support.factories import ServiceCase, Terminal

PAIRS = {p.path: p for p in [*workbook_pairs(), *document_pairs(), *model_pairs()]}


class BytesTests(ServiceCase):
    """Two versions of each on a shelf."""

    def setUp(self) -> None:
        super().setUp()
        self.put({p.path: p.before for p in PAIRS.values()})
        self.shelf.make_tag("one")
        self.put({p.path: p.after for p in PAIRS.values()})

    def test_sheets_come_as_tables_with_their_grid(self) -> None:
        found = self.shelf.compare_artifact("workbooks/budget.xlsx", "tag:one")
        self.assertEqual(found.tables["Costs"].rows.added, 1)
        self.assertTrue(found.tables["Costs"].grid.rows)
        states = self.shelf.compare("tag:one").artifacts
        brief = next(a for a in states if a.path == "workbooks/budget.xlsx")
        self.assertIsNone(brief.tables["Costs"].grid)

    def test_weights_in_another_file_and_metrics_beside_are_found_on_the_shelf(self) -> None:
        found = self.shelf.compare_artifact("models/tide.onnx", "tag:one")
        rows = {t.name: t for t in found.model.tensors}
        self.assertEqual(rows["hidden.weight"].state, "changed")
        self.assertAlmostEqual(rows["hidden.weight"].distance.relative, 0.0222, 3)
        self.assertEqual([m.better for m in found.model.metrics], [True, True, None])

    def test_other_weights_beside_an_equal_file_are_another_result(self) -> None:
        pair = PAIRS["models/tide.onnx"]
        first = self.shelf.compare_artifact(pair.path, "tag:one")
        data = PAIRS["models/tide.onnx.data"].after
        self.put({"models/tide.onnx.data": bytes(len(data))})
        second = self.shelf.compare_artifact(pair.path, "tag:one")
        moved = [{t.name: t for t in f.model.tensors}["hidden.weight"].distance.relative for f in (first, second)]
        self.assertEqual(moved[1], 1.0)
        self.assertNotEqual(*moved)

    def test_weights_that_change_alone_are_told_at_the_model(self) -> None:
        before = f"commit:{self.shelf.branch('main').head}"
        data = PAIRS["models/tide.onnx.data"].after
        self.put({"models/tide.onnx.data": data[:-4] + bytes(4)})
        found = self.shelf.compare(before, "main").artifacts
        told = next(a for a in found if a.path == "models/tide.onnx")
        self.assertEqual({f.field for f in told.findings}, {"weights"})
        self.assertEqual(told.state, "edited")
        alone = self.shelf.compare_artifact("models/tide.onnx", before, "main")
        self.assertEqual(alone.findings, told.findings)

    def test_a_picture_comes_with_its_region_and_difference(self) -> None:
        found = self.shelf.compare_artifact("pictures/route-map.png", "tag:one").picture
        self.assertEqual(found.region, PictureRegion(x=260, y=148, width=141, height=70))
        self.assertTrue(found.difference.startswith("data:image/png;base64,"))

    def test_reports_hold_cells_metrics_and_the_difference(self) -> None:
        wanted = {
            "workbooks/budget.xlsx": ("Race week", "2480"),
            "models/tide.onnx": ("rmse", "better", "moved by 2.2%"),
            "pictures/pier.jpg": ("data:image/png", "2.7% of the pixels"),
            "documents/terms.docx": ("two hours", "Folding scooters"),
        }
        terminal = Terminal(self, self.service)
        for path, words in wanted.items():
            for form in ("html", "md"):
                terminal.run("compare", "tag:one", "main", path, "--report", f"r.{form}", "--shelf", self.shelf.key)
                text = (terminal.folder / f"r.{form}").read_text()
                plain = re.sub(r"</?(ins|del)>|\\\\", "", text)
                for word in words:
                    if form == "html" or not word.startswith("data:"):
                        self.assertIn(word, plain, (path, form))


class TerminalTests(ServiceCase):
    """Files on disk, without a service."""

    def folder(self, pair: Pair) -> Path:
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        for side in ("before", "after"):
            Path(held.name, side).mkdir()
            for other in PAIRS.values():
                if other.path.rpartition("/")[0] == pair.path.rpartition("/")[0]:
                    Path(held.name, side, other.path.rpartition("/")[2]).write_bytes(getattr(other, side))
        return Path(held.name)

    def test_each_is_told_as_the_service_tells_it(self) -> None:
        terminal = Terminal(self, self.service)
        for path, words in {
            "workbooks/budget.xlsx": ["+ Race week", "Fuel 2170 → 2480", "11 → 12"],
            "workbooks/duty-plan.ods": ["sub CountHours", "Evening Maren → Wren"],
            "models/tide.onnx": ["BREAKS  shape [hours, 2] → [hours, 3]", "rmse", "0.142 → 0.131", "better"],
            "pictures/route-map.png": ["1.2% of the pixels"],
            "documents/pier-kit.zip": ["sailings.json", "12 → 13"],
        }.items():
            folder, name = self.folder(PAIRS[path]), path.rpartition("/")[2]
            said = terminal.run("compare-files", str(folder / "before" / name), str(folder / "after" / name)).stdout
            for word in words:
                self.assertIn(word, said, path)

    def test_outlines_show_what_each_is_made_of(self) -> None:
        terminal = Terminal(self, self.service)
        for path, words in {
            "models/forest.pkl": ["TideForest", "learning_rate", "leaves"],
            "models/crowd.safetensors": ["crowd.mix", "float32", "8 × 3"],
            "workbooks/budget.xlsx": ["sheet", "Costs", "VatRate"],
            "documents/terms.docx": ["section", "Carriage"],
            "pictures/pier.jpg": ["480 × 320", "JPEG"],
        }.items():
            file = self.folder(PAIRS[path]) / "after" / path.rpartition("/")[2]
            said = terminal.run("outline", str(file)).stdout
            for word in words:
                self.assertIn(word, said, path)
