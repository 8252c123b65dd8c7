"""Records by column against records one by one: what changed is in the records."""

from __future__ import annotations

import json
import unittest
from decimal import Decimal
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from everyshelf.core.compare.artifact import ArtifactSide, compare_artifacts
from everyshelf.core.compare.orientation import by_records, records_of
from tests.support.laws import law

ROWS = [{"sailing": f"s{n}", "fare": n * 2, "open": n % 2 == 0} for n in range(40)]
SCALARS = st.one_of(st.none(), st.booleans(), st.integers(-5, 5), st.text(max_size=3))


def columns(rows: list[dict[str, Any]]) -> dict[str, list[Any]]:
    return {name: [row[name] for row in rows] for name in rows[0]}


def side(tree: Any, name: str = "sailings.json") -> ArtifactSide:
    return ArtifactSide(name, json.dumps(tree).encode())


class OrientationTests(unittest.TestCase):
    def test_one_cell_is_one_changed_cell_either_way(self) -> None:
        newer = [{**row, "fare": 99} if row["sailing"] == "s7" else row for row in ROWS]
        for before, after in ((ROWS, columns(newer)), (columns(ROWS), newer)):
            found = compare_artifacts(side(before), side(after))
            self.assertEqual(found.kind, "dataset")
            assert found.table is not None
            rows = found.table.rows
            self.assertEqual((rows.changed, rows.added, rows.removed), (1, 0, 0))
            (form,) = [f for f in found.findings if f.field == "form"]
            self.assertEqual((form.effect, {form.before, form.after}), ("cosmetic", {"by record", "by column"}))

    def test_within_a_file_the_records_are_followed(self) -> None:
        newer = [{**row, "fare": 99} if row["sailing"] == "s7" else row for row in ROWS]
        found = compare_artifacts(
            side({"line": "Brae", "sailings": ROWS}, "line.json"),
            side({"line": "Brae", "sailings": columns(newer)}, "line.json"),
        )
        told = [(f.action, f.field, f.before, f.after) for f in found.findings]
        self.assertEqual(told, [("changed", "fare", 14, 99), ("changed", "form", "by record", "by column")])
        self.assertEqual({f.effect for f in found.findings}, {"alters"})

    def test_what_only_looks_alike_is_left_alone(self) -> None:
        unlike = ({"a": [1, 2]}, {"sailing": [1], "fare": [1, 2], "open": [1]}, {"sailing": [], "fare": [], "open": []})
        for tree in (*unlike, {"sailing": [[1]], "fare": [1], "open": [1]}):
            self.assertIsNone(records_of(tree, ROWS))
        old, new, turned = by_records({"a": [1]}, {"a": [2]})
        self.assertEqual((old, new, turned), ({"a": [1]}, {"a": [2]}, []))

    def test_long_numbers_keep_their_digits(self) -> None:
        exact = '[{"fare": 1.00000000000000000001, "n": 1}, {"fare": 2.5, "n": 2}]'
        by_column = '{"fare": [1.00000000000000000001, 2.5], "n": [1, 2]}'
        found = compare_artifacts(ArtifactSide("a.json", exact.encode()), ArtifactSide("a.json", by_column.encode()))
        self.assertEqual([f.field for f in found.findings], ["form"], Decimal("1.00000000000000000001"))

    @law(80)
    @given(st.lists(st.fixed_dictionaries({"a": SCALARS, "b": SCALARS}), min_size=1, max_size=8))
    def test_turned_there_is_turned_back(self, rows: list[dict[str, Any]]) -> None:
        self.assertEqual(by_records(rows, columns(rows))[:2], (rows, rows))
        inner = by_records({"x": {"y": columns(rows)}}, {"x": {"y": rows}})
        self.assertEqual(inner, ({"x": {"y": rows}}, {"x": {"y": rows}}, [("/x/y", False)]))
