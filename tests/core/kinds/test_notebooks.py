"""Notebooks: what runs is told apart from what running left behind."""

from __future__ import annotations

import copy
import json
import random
import sys
import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from tests.support.factories import compared, told
from tests.support.laws import law


def cell(source: str, kind: str = "code", **more: Any) -> dict[str, Any]:
    made: dict[str, Any] = {"cell_type": kind, "metadata": {}, "source": source.splitlines(keepends=True), **more}
    if kind == "code":
        made = {"execution_count": 1, "outputs": [], **made}
    return made


def notebook(cells: list[dict[str, Any]], **metadata: Any) -> dict[str, Any]:
    kernel = {"name": "python3", "display_name": "Python 3", "language": "python"}
    return {"nbformat": 4, "nbformat_minor": 5, "metadata": {"kernelspec": kernel, **metadata}, "cells": cells}


LOAD = "import csv\n\nwith open('log.csv') as file:\n    rows = list(csv.reader(file))\nprint(len(rows))"
CLEAN = "kept = [row for row in rows if row[3] != 'void']\nlate = [row for row in kept if float(row[4]) > 5]"
PLOT = "counts = {}\nfor row in late:\n    counts[row[1]] = counts.get(row[1], 0) + 1\nfor route, n in sorted(counts.items()):\n    print(route, '#' * n)"
CELLS = [cell("# Delays", "markdown"), cell(LOAD), cell(CLEAN), cell("How many a route:", "markdown"), cell(PLOT)]


def of(before: list[dict[str, Any]], after: list[dict[str, Any]]) -> dict[str, Any]:
    found = compared(notebook(before), notebook(after), "delays.ipynb")
    assert found["read_as"] == "notebook", found["note"]
    return found


class NotebookTests(unittest.TestCase):
    """Cells without ids, as most are."""

    def test_running_it_again_is_cosmetic(self) -> None:
        after = copy.deepcopy(CELLS)
        after[1].update(execution_count=17, outputs=[{"output_type": "stream", "name": "stdout", "text": ["812\n"]}])
        after[2]["metadata"] = {"collapsed": True, "scrolled": False}
        before, new = notebook(CELLS), notebook(after, widgets={"state": {"a": 1}})
        new["metadata"]["kernelspec"]["name"] = "venv"
        new["nbformat_minor"] = 4
        found = compared(before, new, "delays.ipynb")
        self.assertEqual(told(found), [])
        self.assertTrue(found["findings"])

    def test_source_as_text_or_as_lines_is_the_same(self) -> None:
        after = [{**c, "source": "".join(c["source"])} for c in CELLS]
        self.assertEqual(of(CELLS, after)["findings"], [])

    def test_edited_cell_is_one_finding_with_its_source(self) -> None:
        after = [*CELLS[:2], cell(CLEAN.replace("> 5", "> 10")), *CELLS[3:]]
        found = of(CELLS, after)["findings"]
        self.assertEqual([(f["action"], f["part"], f["field"]) for f in found], [("changed", "/cell:#3", "source")])
        self.assertIn("1 of 2 lines", found[0]["detail"])

    def test_inserted_and_removed_cells_are_one_finding_each(self) -> None:
        self.assertEqual(
            [(a, p) for a, p, *_ in told(of(CELLS, [CELLS[0], cell("limit = 5"), *CELLS[1:]]))], [("added", "/cell:#2")]
        )
        self.assertEqual([(a, p) for a, p, *_ in told(of(CELLS, [*CELLS[:3], *CELLS[4:]]))], [("removed", "/cell:#4")])

    def test_moved_cell_alters(self) -> None:
        found = of(CELLS, [CELLS[0], CELLS[4], *CELLS[1:4]])["findings"]
        self.assertEqual([(f["action"], f["effect"]) for f in found], [("moved", "alters")])

    def test_split_and_merged_cells_are_told_as_such(self) -> None:
        first, second = LOAD.split("\n", 2)[0], LOAD.split("\n", 2)[2]
        parts = [CELLS[0], cell(first), cell(second), *CELLS[2:]]
        for before, after, words in ((CELLS, parts, "split into 2 cells"), (parts, CELLS, "merged from 2 cells")):
            found = of(before, after)["findings"]
            self.assertEqual([(f["action"], f["detail"], f["effect"]) for f in found], [("changed", words, "cosmetic")])

    def test_tags_alter(self) -> None:
        after = copy.deepcopy(CELLS)
        after[2]["metadata"]["tags"] = ["parameters"]
        self.assertEqual(told(of(CELLS, after)), [("added", "/cell:#3", "tags", None, "parameters")])

    def test_old_worksheets_hold_the_same_cells(self) -> None:
        old = {
            "nbformat": 3,
            "nbformat_minor": 0,
            "metadata": {"name": ""},
            "worksheets": [
                {
                    "cells": [
                        {"cell_type": "heading", "level": 1, "source": ["Delays"]},
                        {"cell_type": "code", "language": "python", "input": LOAD, "prompt_number": 3, "outputs": []},
                    ]
                }
            ],
        }
        new = notebook([cell("# Delays", "markdown"), cell(LOAD)])
        found = compared(old, new, "delays.ipynb")
        self.assertEqual([t for t in told(found) if t[2] not in ("language",)], [])
        self.assertEqual(found["read_as"], "notebook")


class IdTests(unittest.TestCase):
    """Cells with ids (nbformat 4.5)."""

    def with_ids(self, cells: list[dict[str, Any]], prefix: str = "c") -> list[dict[str, Any]]:
        return [{"id": f"{prefix}{k}", **c} for k, c in enumerate(cells)]

    def test_kept_ids_hold_a_cell_that_was_rewritten(self) -> None:
        before = self.with_ids(CELLS)
        after = copy.deepcopy(before)
        after[2]["source"] = ["something = 'else entirely'\n"]
        self.assertEqual([(a, p, f) for a, p, f, *_ in told(of(before, after))], [("changed", "/cell:c2", "source")])

    def test_regenerated_ids_are_looked_through(self) -> None:
        self.assertEqual(told(of(self.with_ids(CELLS), self.with_ids(CELLS, "zz"))), [])

    def test_split_cell_with_ids(self) -> None:
        before = self.with_ids(CELLS)
        lines = LOAD.split("\n")
        after = [
            before[0],
            {**before[1], "source": "\n".join(lines[:2])},
            {**cell("\n".join(lines[2:])), "id": "new"},
            *before[2:],
        ]
        self.assertEqual(
            [(f["detail"], f["effect"]) for f in of(before, after)["findings"]], [("split into 2 cells", "cosmetic")]
        )


class LongTests(unittest.TestCase):
    """Notebooks of hundreds of cells that all changed."""

    def test_work_grows_as_the_notebook_does(self) -> None:
        """Told by calls, which a busy machine does not change: five times the cells, at most seven times the work."""

        def calls(before: list[dict[str, Any]], after: list[dict[str, Any]]) -> int:
            count = 0

            def counted(*_: object) -> None:
                nonlocal count
                count += 1

            sys.setprofile(counted)
            try:
                of(before, after)
            finally:
                sys.setprofile(None)
            return count

        def cells(count: int, prefix: str = "x") -> list[dict[str, Any]]:
            return [cell(f"{prefix}{n} = load({n})\nplot({prefix}{n})") for n in range(count)]

        def moved(count: int) -> list[dict[str, Any]]:
            return random.Random(7).sample(cells(count), count)

        def split(count: int) -> list[dict[str, Any]]:
            return [cell(line) for made in cells(count) for line in made["source"]]

        for change in (moved, split):
            with self.subTest(change=change.__name__):
                small, large = (calls(cells(n), change(n)) for n in (200, 1000))
                self.assertLess(large, 7 * small)

    def test_cells_that_all_were_edited_find_their_partners(self) -> None:
        before = [cell(f"depth_{n} = load('quay {n}')\nplot(depth_{n})") for n in range(700)]
        after = [{**c, "source": [*c["source"], f"\nshow({n})"]} for n, c in enumerate(before)]
        found = told(of(before, after))
        self.assertEqual(len(found), 700)
        self.assertEqual({(action, field) for action, _, field, _, _ in found}, {("changed", "source")})


class LawTests(unittest.TestCase):
    """Over notebooks nobody wrote."""

    @law(60)
    @given(st.randoms(use_true_random=False), st.booleans())
    def test_each_single_edit_is_exactly_its_finding(self, rng: random.Random, with_ids: bool) -> None:
        cells = [
            cell("\n".join(f"value_{k}_{n} = {rng.randint(0, 999)}" for n in range(rng.randint(3, 9))))
            for k in range(rng.randint(3, 15))
        ]
        if with_ids:
            cells = [{"id": f"c{k}", **c} for k, c in enumerate(cells)]
        after = copy.deepcopy(cells)
        for c in after:
            c["execution_count"] = rng.randint(1, 99)
            c["outputs"] = [{"output_type": "stream", "name": "stdout", "text": "x"}]
        place = rng.randrange(len(cells))
        edit = rng.choice(["line", "add", "drop"])
        if edit == "line":
            after[place]["source"][0] = "quite_another = 0\n"
            expected = [("changed", "source")]
        elif edit == "add":
            new = cell("nothing_like = 'the others'\nat_all = None\n")
            after.insert(place, {"id": "brandnew", **new} if with_ids else new)
            expected = [("added", None)]
        else:
            after.pop(place)
            expected = [("removed", None)]
        found = compared(notebook(cells), json.dumps(notebook(after), indent=rng.choice([1, 2])).encode(), "n.ipynb")
        self.assertEqual([(a, f) for a, _, f, _, _ in told(found)], expected)
