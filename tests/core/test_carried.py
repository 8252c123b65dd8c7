"""What one version carries over from another: single changes of every sort, each said by hand."""

from __future__ import annotations

import io
import json
import unittest
from collections.abc import Iterator
from typing import Any

import openpyxl

from everyshelf.core.compare.artifact import ArtifactSide
from everyshelf.core.compare.carried import step_between
from everyshelf.core.compare.carried_lines import line_step, lines_between
from everyshelf.core.kinds.rules import parse_rules
from everyshelf.core.origins import lines, trees
from everyshelf.core.origins.sheets import cell_name, cell_places, row_place
from everyshelf.core.origins.steps import Step, clipped, packed, unpacked
from everyshelf.core.origins.tables import RowChange, beginning, blocks, key_cells, key_text, row_in
from everyshelf.core.origins.trees import Node, traced
from tests.support.known_origins import Document, Unit, notebook

_RULES = parse_rules("")


def _step(before: Any, after: Any, name: str = "p.json", now: str = "") -> Step:
    sides = [json.dumps(one).encode() if not isinstance(one, bytes) else one for one in (before, after)]
    return step_between(ArtifactSide(name, sides[0]), ArtifactSide(now or name, sides[1]), _RULES)


def _flow(*steps: dict[str, Any]) -> dict[str, Any]:
    return {"pipeline": "x", "steps": [{"after": ["a"], **step} for step in steps]}


def _origins(step: Step) -> Node:
    return trees.carried(step, trees.first(1), 2)


def _all(node: Node) -> Iterator[Node]:
    yield node
    for child in node.below.values():
        yield from _all(child)


def _other(screens: list[dict[str, Any]]) -> dict[str, Any]:
    """The same with a control that is new."""
    return {"app": "g", "screens": [*screens, {"name": "new", "controls": [{"name": "z", "text": "c"}]}]}


class OutlineTests(unittest.TestCase):
    A, B, C = {"id": "a", "run": "load"}, {"id": "b", "run": "join"}, {"id": "c", "run": "send"}

    def test_equal_and_only_laid_out_otherwise(self) -> None:
        tree = _flow(self.A, self.B)
        self.assertTrue(_step(tree, tree).is_empty)
        self.assertTrue(_step(tree, json.dumps(tree, indent=4).encode()).is_empty)

    def test_a_member_of_a_map_stands_elsewhere(self) -> None:
        before = {"b": {"x": 1, "y": 2}, "a": {"x": 3}}
        after = {"a": {"x": 3}, "b": {"y": 2, "x": 9}}
        node = _origins(_step(before, after, "s.json"))
        self.assertEqual((node.child(0).field("x"), node.child(1).field("x"), node.child(1).field("y")), (1, 2, 1))

    def test_added_before_removed_and_changed(self) -> None:
        node = _origins(
            _step(_flow(self.A, self.B, self.C), _flow({"id": "n", "run": "new"}, self.A, {**self.C, "run": "post"}))
        )
        steps = node.child(0)
        self.assertEqual([steps.child(k).own for k in range(3)], [2, 1, 1])
        self.assertEqual((steps.child(2).field("run"), steps.child(2).field("id")), (2, 1))

    def test_a_renamed_part_keeps_what_it_holds(self) -> None:
        big = {"run": "join timetable and tides", "limit": 20, "retries": 3, "queue": "night"}
        step = _step(_flow(self.A, {"id": "b", **big}), _flow(self.A, {"id": "joined", **big}))
        node = _origins(step).child(0).child(1)
        self.assertEqual((node.own, node.field("run"), node.field("")), (1, 1, 2))
        found = traced(step, [0, 1])
        assert found.step is not None
        self.assertEqual(
            (found.places, found.step.fields[""].before, found.step.fields[""].after), ([0, 1], "b", "joined")
        )

    def test_a_part_that_went_to_another_parent(self) -> None:
        control = {"name": "late", "text": "Sailings are late", "colour": "red", "size": 12}
        screens = [
            {"name": "home", "controls": [control, {"name": "x", "text": "a"}]},
            {"name": "berths", "controls": [{"name": "y", "text": "b"}]},
        ]
        moved = [
            {"name": "home", "controls": [{"name": "x", "text": "a"}]},
            {"name": "berths", "controls": [{"name": "y", "text": "b"}, control]},
        ]
        step = _step({"app": "g", "screens": screens}, {"app": "g", "screens": moved}, "app.json")
        node = _origins(step)
        self.assertIn(
            2,
            [
                part.own
                for part in _all(
                    trees.carried(_step({"app": "g", "screens": screens}, _other(moved), "app.json"), trees.first(1), 2)
                )
            ],
        )
        self.assertEqual({part.own for part in _all(node)}, {1}, "what went along keeps its origin")
        self.assertEqual(unpacked(packed(node), Node), node)

    def test_other_forms_and_what_cannot_be_read(self) -> None:
        yaml = b"pipeline: x\nsteps:\n- {id: a, run: load, after: [a]}\n- {id: b, run: other, after: [a]}\n"
        node = _origins(_step(_flow(self.A, self.B), yaml, now="p.yaml"))
        self.assertEqual((node.child(0).child(0).field("run"), node.child(0).child(1).field("run")), (1, 2))
        self.assertTrue(_step(_flow(self.A), b'{"steps": [').whole)
        self.assertTrue(_step(b"\0\1", b"\0\2", "b.bin").whole)
        self.assertEqual(_origins(_step(b"\0\1", b"\0\2", "b.bin")).own, 2)

    def test_split_cells_and_new_outputs(self) -> None:
        units = [
            Unit("u1", dict.fromkeys(("command", "limit", "owner"), "one two")),
            Unit("u2", dict.fromkeys(("command", "limit", "owner"), "three")),
        ]
        before, rerun = notebook(Document(units), 0), notebook(Document(units, style=2), 0)
        node = _origins(_step(before, rerun, "n.ipynb"))
        self.assertEqual([node.child(k).field("source") for k in (0, 1)], [1, 1])
        tree = json.loads(before)
        cell = tree["cells"][0]
        tree["cells"][:1] = [{**cell, "source": cell["source"][:2]}, {**cell, "source": cell["source"][2:]}]
        node = _origins(_step(before, tree, "n.ipynb"))
        self.assertEqual([node.child(k).own for k in range(3)], [1, 1, 1])

    def test_both_sides_of_a_merge(self) -> None:
        one = trees.carried(
            _step(_flow(self.A, self.B), _flow({**self.A, "run": "x"}, {**self.B, "run": "y"})), trees.first(1), 4
        )
        ours = trees.carried(_step(_flow(self.A, self.B), _flow({**self.A, "run": "x"}, self.B)), trees.first(1), 2)
        merged = trees.carried(
            _step(_flow({**self.A, "run": "x"}, self.B), _flow({**self.A, "run": "x"}, {**self.B, "run": "y"})), ours, 4
        )
        both = trees.combined(merged, one, 4).child(0)
        self.assertEqual((both.child(0).field("run"), both.child(1).field("run")), (2, 4))


class SheetTests(unittest.TestCase):
    def _book(self, *rows: list[Any]) -> bytes:
        book = openpyxl.Workbook()
        sheet = book.active
        assert sheet is not None
        for row in rows:
            sheet.append(row)
        file = io.BytesIO()
        book.save(file)
        return file.getvalue()

    def test_an_inserted_row_and_an_inserted_column_set_nothing_else(self) -> None:
        rows = [["zone", "fare", "note"], *([f"Z{n}", n * 3, f"pier {n}"] for n in range(1, 9))]
        wider = [[row[0], "until" if n == 0 else f"June {n}", *row[1:]] for n, row in enumerate(rows)]
        wider.insert(3, ["Z0", "May", 1, "new pier"])
        wider[5][2] = 99
        node = trees.carried(_step(self._book(*rows), self._book(*wider), "b.xlsx"), trees.first(1), 2).child(0)

        def cell(row: int, column: int) -> int:
            return node.child(row_place(row)).child(column).field("value")

        self.assertEqual([cell(2, k) for k in (1, 2, 3, 4)], [1, 2, 1, 1])
        self.assertEqual([cell(4, k) for k in (1, 2, 3, 4)], [2, 2, 2, 2])
        self.assertEqual([cell(6, k) for k in (1, 3, 4)], [1, 2, 1])
        self.assertEqual([cell(9, k) for k in (1, 3, 4)], [1, 1, 1])

    def test_names_of_cells(self) -> None:
        self.assertEqual((cell_name(12, 2), cell_name(1, 28)), ("B12", "AB1"))
        self.assertEqual(cell_places("ab1"), [row_place(1), 28])
        self.assertIsNone(cell_places("12B"))


class LineTests(unittest.TestCase):
    def test_carried_moved_spaced_and_made_of(self) -> None:
        before = ["def a():", "    return fares[zone]", "", "the longest line of all here", "end"]
        after = ["the longest line of all here", "def a():", "  return fares[zone]", "", "end of it all", "end"]
        step = line_step(before, after)
        origins = lines.carried(step, lines.first(1, 5), 2)
        self.assertEqual(origins.own.tolist(), [1, 1, 1, 1, 2, 1])
        self.assertEqual((step.moved, step.looks), ([0], [2]))
        self.assertEqual(lines.line_before(step, 0), 3)
        changed = line_step(["limit = 20 minutes"], ["limit = 30 minutes"])
        self.assertEqual(changed.changed, {0: 0})
        same = lines.unpacked_lines(lines.packed_lines(origins))
        self.assertEqual((same.own.tolist(), same.looks.tolist()), (origins.own.tolist(), origins.looks.tolist()))

    def test_what_is_the_same_elsewhere_says_enough(self) -> None:
        between = [f"the words of line {n}" for n in range(4)]
        for line, carried in (
            ('        ("bar", "f", "False"),', True),  # few letters, and much between them
            ("        return fares[zone]", True),
            ("        }, [], [], {}], [] }", False),
            ("        end end", False),
        ):
            step = line_step([line, *between], [*between, line])
            self.assertEqual(step.moved, [4] if carried else [], line)

    def test_texts_and_what_is_none(self) -> None:
        self.assertEqual(lines_between(None, b"a\r\nb\r\n").lines, 2)
        self.assertEqual(lines_between(b"a\nb\n", b"\0\1").lines, 0)
        self.assertEqual(lines_between(b"a\r\nb\r\n", b"a\nb\n").runs, [(0, 0, 2)])


class RowTests(unittest.TestCase):
    def test_rows_are_found_in_their_blocks(self) -> None:
        keys = sorted(f"Z{n:05}" for n in range(1000))
        made = list(blocks("", (RowChange(key, "changed", ["fare"], ["1"], [key]) for key in keys)))
        self.assertEqual(len(made), 5)
        for key in ("Z00000", "Z00199", "Z00200", "Z00999"):
            held = [b for b in made if b.first <= beginning(key) <= b.last]
            self.assertEqual([row_in(b.rows, key) is not None for b in held], [True])
        self.assertEqual(key_cells('Z1,"a, b"'), ["Z1", "a, b"])
        self.assertEqual(key_text(["Z1", "a"]), "Z1\x1fa")
        self.assertEqual((clipped("x" * 999)[-1], clipped(None), clipped([1])), ("…", None, "[1]"))
