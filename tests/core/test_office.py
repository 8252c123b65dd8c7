"""The demo's pairs: every format that is read, each told as exactly what was edited, here and over the service."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

from everyshelf.core.compare.artifact import ArtifactSide, compare_artifacts
from everyshelf.core.compare.sentences import headline
from everyshelf.core.drawing.files import draw_files
from everyshelf.core.kinds.beside import belonging
from everyshelf.core.kinds.rules import Rules
from everyshelf.demo.office import pairs
from everyshelf.demo.pair import Pair
from tests.support.factories import ServiceCase, as_answer, commit_files
from tests.support.laws import in_full

# Read by lines in earnest: no syntax of theirs is known, and their comments are.
BY_LINES = {"scripts/archive.sh", "scripts/next-boat.js"}


def _sides(pair: Pair, folder: Path) -> tuple[ArtifactSide, ArtifactSide]:
    """Both versions, with what lies beside them in their folder."""
    sides = []
    for number, side in enumerate(("before", "after")):
        near = {p.path.rpartition("/")[2]: getattr(p, side) for p in pairs() if p.path.startswith("models/")}
        beside = {}
        for name in belonging(pair.path.rpartition("/")[2], near):
            beside[name] = folder / f"{number} {name}"
            beside[name].write_bytes(near[name])
        sides.append(ArtifactSide(pair.path, getattr(pair, side), beside=beside))
    return sides[0], sides[1]


class PairTests(unittest.TestCase):
    """Each pair alone."""

    @in_full  # the shelf below is told the same
    def test_each_is_read_as_its_kind_and_told_as_what_was_edited(self) -> None:
        for pair in pairs():
            with self.subTest(path=pair.path):
                if pair.kind == "opaque":
                    continue  # the file that holds a model's weights: told with the model
                with tempfile.TemporaryDirectory() as folder:
                    found = compare_artifacts(*_sides(pair, Path(folder))).as_json()
                self.assertEqual((found["kind"], headline(as_answer(found))), (pair.kind, pair.says))
                self.assertEqual(found["read_as"], "text" if pair.path in BY_LINES else pair.kind)
                self.assertFalse(found["note"].startswith("compared as"), found["note"])

    def test_workflows_among_them_are_drawn(self) -> None:
        for pair in pairs():
            if pair.kind == "workflow":
                sides = ArtifactSide(pair.path, pair.before), ArtifactSide(pair.path, pair.after)
                drawing = draw_files(*sides, Rules())
                self.assertGreater(len(drawing.nodes), 1, pair.path)
                self.assertTrue(drawing.edges, pair.path)


class ShelfTests(ServiceCase):
    """All of them on one shelf."""

    def test_one_comparison_says_the_same_of_each(self) -> None:
        commit_files(self.shelf, {p.path: p.before for p in pairs()}, "Before")
        self.shelf.make_tag("easter")
        commit_files(self.shelf, {p.path: p.after for p in pairs()}, "After")
        found = self.shelf.compare("tag:easter")
        self.assertEqual({a.path: a.headline for a in found.artifacts}, {p.path: p.says for p in pairs()})


if __name__ == "__main__":
    unittest.main()
