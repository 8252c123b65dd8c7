"""A sample of the campaign across everything in which work can be, and proof that its judge sees what is lost."""

from __future__ import annotations

import unittest

from bench.seams import Seams, State, changed, things

from tests.support.laws import SHARE

_STEPS = 100 if SHARE >= 1 else 25


class SeamTests(unittest.TestCase):
    """Two people at desks, drafts, Git, an environment and branches."""

    def test_nothing_is_lost_or_brought_back_between_places(self) -> None:
        self.assertEqual(Seams(seed=1, steps=_STEPS).run().problems, [])

    def test_the_judge_sees_a_change_that_was_lost_and_one_that_came_back(self) -> None:
        class Losing(Seams):
            def _check_all(self) -> None:
                """A row goes and another comes, and the model knows of neither."""
                table = self._files("main")["fares.csv"]
                kept = table.replace(b"try-0,0\n", b"").replace(b"zone,fare\n", b"zone,fare\nghost,1\n")
                self._commit_files("main", {"fares.csv": kept}, "Behind its back")
                self._check_main()

        (problem,) = Losing(seed=3, steps=1).run().problems
        self.assertIn("lost {('fares.csv', 'try-0'): '0'}", problem)
        self.assertIn("brought back {('fares.csv', 'ghost'): '1'}", problem)


class ModelTests(unittest.TestCase):
    """The model itself, which knows things and not files."""

    def test_of_each_thing_the_newest_change_counts(self) -> None:
        row, step = ("fares.csv", "a"), ("flow.json", "b")
        here, there = State({row: (1, "4"), step: (5, None)}), State({row: (3, "9"), step: (2, "sail")})
        self.assertEqual(here.merged(there), {row: (3, "9"), step: (5, None)})
        self.assertEqual(here.merged(there).shown(), {row: "9"})
        self.assertEqual(here.since(there), here)
        self.assertEqual(here.since(here), {})

    def test_an_edit_changes_one_thing_in_a_file(self) -> None:
        table, flow = b"zone,fare\na,1\nb,2\n", b'{"steps": [{"id": "a", "run": "1"}]}'
        self.assertEqual(changed(table, ("fares.csv", "a"), "7"), b"zone,fare\na,7\nb,2\n")
        self.assertEqual(changed(table, ("fares.csv", "b"), None), b"zone,fare\na,1\n")
        both = {
            "fares.csv": changed(table, ("fares.csv", "c"), "3"),
            "flow.json": changed(flow, ("flow.json", "b"), "2"),
        }
        self.assertEqual(
            things({path: data for path, data in both.items() if data}),
            {
                ("fares.csv", "a"): "1",
                ("fares.csv", "b"): "2",
                ("fares.csv", "c"): "3",
                ("flow.json", "a"): "1",
                ("flow.json", "b"): "2",
            },
        )


if __name__ == "__main__":
    unittest.main()
