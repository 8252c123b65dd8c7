"""Merging artifacts by meaning: what combines, what conflicts, and what stays byte for byte."""

from __future__ import annotations

import contextlib
import json
import random
import re
import unittest
from typing import Any

import yaml
from bench.edits import FORMATS, colliding, disjoint
from bench.edits.model import Format
from hypothesis import HealthCheck, example, given
from hypothesis import strategies as st

from everyshelf.core.formats.source import written
from everyshelf.core.formats.source.json import json_source
from everyshelf.core.formats.source.xml import xml_source
from everyshelf.core.formats.source.yaml import yaml_source
from everyshelf.core.kinds.rules import parse_rules
from everyshelf.core.merge.artifact import Versions, merge_artifacts
from everyshelf.core.merge.model import Decision, Merged
from tests.support.figures import say
from tests.support.laws import law
from tests.support.published import published

SAMPLE = 25

STEPS = """{
  "name": "night run",
  "steps": [
    {"id": "weigh", "run": "weigh.py", "timeout": 30},
    {"id": "load",  "run": "load.py",  "timeout": 60, "after": ["weigh"]},
    {"id": "sail",  "run": "sail.py",  "timeout": 90, "after": ["load"]}
  ]
}
"""
FLOW = """# Night run
steps:
  # the scale is slow
  - id: weigh
    run: weigh.py   # see the manual
    timeout: 30

  - id: load
    run: load.py
    notes: |
      first line
      second line
      third line
limits: {low: 1, high: 9}
"""
PROCESS = """<?xml version="1.0" encoding="UTF-8"?>
<process xmlns="urn:skerry">
  <!-- who weighs -->
  <task id="weigh" name="Weigh &amp; stamp"
        owner="crew"/>
  <task id="load" name="Load"><doc>As   written</doc></task>
  <flow id="f1" sourceRef="weigh" targetRef="load"/>
</process>
"""


def merged(name: str, base: str | bytes, target: str | bytes, source: str | bytes, **options: Any) -> Merged:
    contents = [v.encode() if isinstance(v, str) else v for v in (base, target, source)]
    return merge_artifacts(Versions(name, *contents), **options)


class Case(unittest.TestCase):
    def combined(self, name: str, base: str, target: str, source: str, **options: Any) -> str:
        """The merged text; fails with the conflicts if there are any."""
        found = merged(name, base, target, source, **options)
        self.assertIsNotNone(found.content, [c.why for c in found.open])
        assert found.content is not None
        return found.content.decode()

    def conflicts(self, name: str, base: str, target: str, source: str) -> list[str]:
        found = merged(name, base, target, source)
        self.assertIsNone(found.content)
        return [c.why for c in found.open]


class GeneratedEditTests(unittest.TestCase):
    """Edits made by an independent script, in files of realistic size."""

    def edits_combine(self, form: Format) -> None:
        alone = 0
        for seed in range(SAMPLE):
            pair = disjoint(form, seed)
            found = merged(pair.file, pair.base, pair.target, pair.source)
            if found.content is not None:
                alone += 1
                self.assertEqual(form.read(found.content.decode()), form.read(pair.both.decode()), (seed, pair.told))
        say(f"{form.name}: {alone} of {SAMPLE} pairs of edits that do not overlap merged on their own")
        self.assertGreaterEqual(alone, SAMPLE * 0.99)

    def collisions_conflict(self, form: Format) -> None:
        for seed in range(SAMPLE):
            pair = colliding(form, seed)
            found = merged(pair.file, pair.base, pair.target, pair.source)
            self.assertIsNone(found.content, (form.name, seed, pair.told))
            self.assertGreaterEqual(len(found.open), 1)

    def test_edits_that_do_not_overlap_combine(self) -> None:
        for form in FORMATS:
            with self.subTest(form.name):
                self.edits_combine(form)

    def test_one_field_given_two_values_is_always_a_conflict(self) -> None:
        for form in FORMATS:
            with self.subTest(form.name):
                self.collisions_conflict(form)


VALUES = st.recursive(
    st.none() | st.booleans() | st.integers(-99, 99) | st.text('abc \n"\\é', max_size=6),
    lambda inner: (
        st.lists(inner, max_size=4) | st.dictionaries(st.text("abcd", min_size=1, max_size=3), inner, max_size=4)
    ),
    max_leaves=12,
)


class LawTests(unittest.TestCase):
    """What holds for any three versions."""

    laws = law(400, suppress_health_check=[HealthCheck.too_slow])

    @laws
    @example({"c": None}, {"a": []}, {"b": None, "a": [None]}, None, "json")
    @example([None], [False], [{}, {}], None, "json")
    @example({}, {"a": None}, {"a": {}}, None, "json")
    @example([None], [], [None, []], 2, "yaml")
    @example([None], [False, []], [False, False], None, "json")
    @given(VALUES, VALUES, VALUES, st.sampled_from([None, 2]), st.sampled_from(["json", "yaml"]))
    def test_laws_of_merging(self, base: Any, one: Any, two: Any, indent: int | None, form: str) -> None:
        def text(value: Any) -> bytes:
            if form == "yaml":
                return yaml.safe_dump(value, allow_unicode=True, default_flow_style=indent is None).encode()
            return json.dumps(value, indent=indent, ensure_ascii=False).encode()

        name, b, x, y = f"v.{form}", text(base), text(one), text(two)
        self.assertEqual(merged(name, b, x, b).content, x)
        self.assertEqual(merged(name, b, b, x).content, x)
        self.assertEqual(merged(name, b, x, x).content, x)
        found, swapped = merged(name, b, x, y), merged(name, b, y, x)
        self.assertEqual(found.content is None, swapped.content is None)
        self.assertEqual(
            sorted((c.part, str(c.target), str(c.source)) for c in found.conflicts),
            sorted((c.part, str(c.source), str(c.target)) for c in swapped.conflicts),
        )
        if found.content is not None:
            self.assert_nothing_is_invented(form, found.content, (b, x, y))
        else:
            self.assertIsNotNone(merged(name, b, x, y, prefer="target").content)
            self.assertIsNotNone(merged(name, b, x, y, prefer="source").content)

    def assert_nothing_is_invented(self, form: str, result: bytes, sides: tuple[bytes, ...]) -> None:
        read = json.loads if form == "json" else yaml.safe_load
        known = set().union(*(_leaves(read(side)) for side in sides))
        for leaf in _leaves(read(result)) - known:
            # A text of several lines may be put together from both sides' lines.
            self.assertIn("\n", leaf)
            self.assertLessEqual(set(leaf.split("\n")), {line for k in known for line in k.split("\n")})

    @laws
    @given(st.lists(st.sampled_from("abcdef"), max_size=12), st.data())
    def test_lines_of_text(self, base: list[str], data: st.DataObject) -> None:
        def edited() -> list[str]:
            lines = list(base)
            for _ in range(data.draw(st.integers(0, 3))):
                at = data.draw(st.integers(0, len(lines)))
                lines[at : at + data.draw(st.integers(0, 2))] = data.draw(
                    st.lists(st.sampled_from("abcxyz"), max_size=2)
                )
            return lines

        b, x, y = ("\n".join([*lines, ""]) for lines in (base, edited(), edited()))
        name = "notes.txt"
        self.assertEqual(merged(name, b, x, b).content, x.encode())
        self.assertEqual(merged(name, b, x, x).content, x.encode())
        found, swapped = merged(name, b, x, y), merged(name, b, y, x)
        self.assertEqual(found.content, swapped.content)
        self.assertEqual(
            [(c.target, c.source) for c in found.conflicts], [(c.source, c.target) for c in swapped.conflicts]
        )


def _leaves(value: Any) -> set[str]:
    if isinstance(value, dict):
        return {str(k) for k in value}.union(*(_leaves(v) for v in value.values()))
    if isinstance(value, list):
        return set().union(*(_leaves(v) for v in value))
    return {str(value)}


class UntouchedTextTests(Case):
    """Comments, indentation, the order of keys and the spelling of what nobody touched are the base's."""

    def test_json(self) -> None:
        target, source = (
            STEPS.replace("30", "45"),
            STEPS.replace('"sail.py" ', '"go.py"   ').replace('"sail.py"', '"go.py"'),
        )
        self.assertEqual(self.combined("f.json", STEPS, target, source), source.replace("30", "45"))

    def test_yaml(self) -> None:
        target = FLOW.replace("timeout: 30", "timeout: 45  # twice").replace("first line", "the first line")
        source = FLOW.replace("third line\n", "third line\n      fourth line\n").replace(
            "high: 9}", "high: 9, top: 12}"
        )
        want = target.replace("third line\n", "third line\n      fourth line\n").replace(
            "high: 9}", "high: 9, top: 12}"
        )
        self.assertEqual(self.combined("f.yaml", FLOW, target, source), want)

    def test_xml(self) -> None:
        target = PROCESS.replace('owner="crew"', 'owner="mate"')
        source = PROCESS.replace("As   written", "As <b>written</b>").replace("who weighs", "who weighs what")
        want = target.replace("As   written", "As <b>written</b>").replace("who weighs", "who weighs what")
        self.assertEqual(self.combined("p.xml", PROCESS, target, source), want)

    def test_the_layout_of_the_side_that_changed_it_is_kept(self) -> None:
        target = json.dumps(json.loads(STEPS), indent=4) + "\n"
        source = STEPS.replace("90", "95")
        self.assertEqual(self.combined("f.json", STEPS, target, source), target.replace("90", "95"))

    def test_encodings_and_line_ends_are_kept(self) -> None:
        base = FLOW.replace("Night", "Nächt").replace("\n", "\r\n").encode("utf-16")
        target, source = (
            base.decode("utf-16").replace(a, b).encode("utf-16") for a, b in (("30", "31"), ("high: 9", "high: 8"))
        )
        found = merged("f.yaml", base, target, source)
        want = base.decode("utf-16").replace("30", "31").replace("high: 9", "high: 8").encode("utf-16")
        self.assertEqual(found.content, want)

    def test_every_published_file_is_the_sum_of_its_parts(self) -> None:
        readers = {".json": json_source, ".ipynb": json_source, ".yml": yaml_source, ".cwl": yaml_source}
        readers |= {".bpmn": xml_source, ".dmn": xml_source, ".xml": xml_source, ".yaml": yaml_source}
        read = 0
        for group in ("pipeline", "process", "notebook", "app", "api", "projects"):
            for name, data in published(group, tuple(readers))[:150]:
                try:
                    root, before, behind = readers[f".{name.rpartition('.')[2]}"](data)
                except Exception as error:
                    self.assertIn("UnreadableError", type(error).__name__, name)
                    continue
                read += 1
                self.assertEqual(written(root), root.text, name)
                with contextlib.suppress(UnicodeDecodeError):
                    self.assertEqual(before + root.text + behind, data.decode("utf-8-sig"), name)
        say(f"{read} published files taken apart and put together again byte for byte")
        self.assertGreater(read, 300)


class MeaningTests(Case):
    """Special cases of structured texts."""

    def test_one_moved_the_other_edited(self) -> None:
        lines = STEPS.splitlines(keepends=True)
        moved = "".join([*lines[:3], lines[4].replace(",\n", ",\n"), lines[3], *lines[5:]])
        self.assertEqual(self.combined("f.json", STEPS, moved, STEPS.replace("30", "45")), moved.replace("30", "45"))

    def test_one_renamed_the_other_edited(self) -> None:
        base = '{"jobs": {"weigh": {"run": "a.py", "timeout": 3, "retries": 2}, "load": {"run": "b.py", "timeout": 4}}}'
        target = base.replace('"weigh"', '"weighing"')
        self.assertEqual(self.combined("f.json", base, target, base.replace("3", "5")), target.replace("3", "5"))

    def test_one_moved_to_another_parent_the_other_edited(self) -> None:
        base = (
            '{"first": {"steps": [{"id": "a", "run": "a.py", "timeout": 3}, {"id": "b", "run": "b.py", "timeout": 4}]},\n'
            ' "second": {"steps": [{"id": "c", "run": "c.py", "timeout": 5}]}}'
        )
        target = json.loads(base)
        target["second"]["steps"].append(target["first"]["steps"].pop())
        found = self.combined("f.json", base, json.dumps(target), base.replace("4", "44"))
        target["second"]["steps"][1]["timeout"] = 44
        self.assertEqual(json.loads(found), target)

    def test_both_inserted_at_one_place_keeps_both_and_says_so(self) -> None:
        base = '{"list": [1, 2]}'
        found = merged("f.json", base, '{"list": [1, 5, 2]}', '{"list": [1, 7, 2]}')
        self.assertEqual(found.content, b'{"list": [1, 5, 7, 2]}')
        self.assertEqual(found.notes, ["both sides inserted at one place of list: both are kept"])

    def test_what_both_sides_put_something_else_in_the_place_of_conflicts(self) -> None:
        base = '{"rows": [{"a": 1, "b": 2}, {"a": 3, "b": 4}, {"a": 5, "b": 6}]}'
        target, source = (
            base.replace('"a": 3, "b": 4', '"a": 7, "b": 8'),
            base.replace('"a": 3, "b": 4', '"a": 9, "b": 0'),
        )
        (conflict,) = merged("f.json", base, target, source).open
        for take, want in (("target", target), ("source", source)):
            found = merged("f.json", base, target, source, decisions={conflict.id: Decision(take)})  # type: ignore[arg-type]
            self.assertEqual(found.content, want.encode())
        both = merged("f.json", base, target, source, decisions={conflict.id: Decision("both")}).content
        assert both is not None
        self.assertEqual([r["a"] for r in json.loads(both)["rows"]], [1, 7, 9, 5])

    def test_equal_additions_are_one_and_different_ones_conflict(self) -> None:
        base = '{"a": 1}'
        self.assertEqual(
            json.loads(self.combined("f.json", base, '{"a": 1, "b": 2}', '{"b": 2, "a": 1}')), {"a": 1, "b": 2}
        )
        self.assertIn("added on both sides", self.conflicts("f.json", base, '{"a": 1, "b": 2}', '{"a": 1, "b": 3}')[0])

    def test_edit_against_removal_conflicts(self) -> None:
        removed = json.loads(STEPS)
        del removed["steps"][2]
        said = self.conflicts("f.json", STEPS, json.dumps(removed, indent=2), STEPS.replace("90", "95"))
        self.assertEqual(said, ["step “sail”: removed on the target, changed on the source"])

    def test_a_new_reference_to_what_the_other_side_removed_conflicts(self) -> None:
        flows = PROCESS.replace("</process>", '  <flow id="f2" sourceRef="load" targetRef="weigh"/>\n</process>')
        gone = re.sub(r"  <task id=\"weigh\".*?/>\n|  <flow id=\"f1\".*?/>\n", "", PROCESS, flags=re.DOTALL)
        (said,) = self.conflicts("p.xml", PROCESS, gone, flows)
        self.assertIn("removed on the target, used on the source", said)

    def test_counts_of_lists_are_worked_out_anew(self) -> None:
        base = {"step_count": 2, "steps": [{"id": "a"}, {"id": "b"}]}
        target, source = ({"step_count": 3, "steps": [*base["steps"], {"id": x}]} for x in "cd")  # type: ignore[misc]
        found = merged("f.json", *(json.dumps(v, indent=1) for v in (base, target, source)))
        assert found.content is not None
        self.assertEqual(json.loads(found.content)["step_count"], 4)
        self.assertIn("step_count is recalculated: 4", found.notes)

    def test_layout_both_changed_is_no_conflict(self) -> None:
        base = (
            '{"nodes": [{"id": "a", "x": 1, "y": 2}, {"id": "b", "x": 3, "y": 4}], "edges": [{"from": "a", "to": "b"}]}'
        )
        found = self.combined("g.json", base, base.replace('"x": 1', '"x": 10'), base.replace('"x": 1', '"x": 20'))
        self.assertEqual(found, base.replace('"x": 1', '"x": 10'))

    def test_settings_kept_as_json_inside_a_text_are_merged_inside(self) -> None:
        def text(a: int, b: int) -> str:
            return json.dumps({"id": "x", "config": json.dumps({"alpha": a, "beta": b})}, indent=2)

        self.assertEqual(
            json.loads(self.combined("f.json", text(1, 2), text(9, 2), text(1, 8))), json.loads(text(9, 8))
        )

    def test_outputs_are_those_of_the_side_whose_source_won_and_cleared_if_both_did(self) -> None:
        def notebook(one: str, two: str, out: str) -> str:
            cell = {"cell_type": "code", "id": "c", "metadata": {}, "execution_count": 1}
            cell |= {
                "source": [f"{one}\n", "mid\n", two],
                "outputs": [{"output_type": "stream", "name": "stdout", "text": [out]}],
            }
            return json.dumps({"cells": [cell], "metadata": {}, "nbformat": 4, "nbformat_minor": 5}, indent=1)

        base = notebook("a", "b", "old")
        won = json.loads(self.combined("n.ipynb", base, notebook("A", "b", "new"), notebook("a", "b", "again")))
        self.assertEqual(won["cells"][0]["outputs"][0]["text"], ["new"])
        both = json.loads(self.combined("n.ipynb", base, notebook("A", "b", "new"), notebook("a", "B", "newer")))
        self.assertEqual(both["cells"][0]["source"], ["A\n", "mid\n", "B"])
        self.assertEqual((both["cells"][0]["outputs"], both["cells"][0]["execution_count"]), ([], None))

    def test_an_identity_declared_by_rules_is_used(self) -> None:
        rules = parse_rules('[identity."*.json"]\nrow = ["berth"]\nitem = ["berth"]\n')
        base = '{"rows": [{"berth": 4, "v": 1}, {"berth": 9, "v": 1}]}'
        target = '{"rows": [{"berth": 9, "v": 1}, {"berth": 4, "v": 1}]}'
        found = self.combined("f.json", base, target, base.replace('9, "v": 1', '9, "v": 7'), rules=rules)
        self.assertEqual({r["berth"]: r["v"] for r in json.loads(found)["rows"]}, {4: 1, 9: 7})

    def test_what_would_not_be_readable_is_a_conflict_and_never_a_broken_file(self) -> None:
        base = "[a]\nx = 1\n\n[b]\ny = 1\n"
        found = merged("s.toml", base, base.replace("x = 1\n", "x = 1\nz = 1\n"), base.replace("[a]\n", "[a]\nz = 2\n"))
        self.assertIsNone(found.content)
        self.assertIn("would not be readable", found.notes[0])


class SettlingTests(Case):
    """Decisions, one by one."""

    def settled(self, name: str, base: str, target: str, source: str, **decisions: Any) -> bytes | None:
        ids = {c.field or c.part: c.id for c in merged(name, base, target, source).open}
        given = {ids[k.replace("__", "/")]: v for k, v in decisions.items()}
        return merged(name, base, target, source, decisions=given).content

    def test_a_side_the_other_or_a_value(self) -> None:
        target, source = (
            STEPS.replace("30", "45").replace("load.py", "a.py"),
            STEPS.replace("30", "60").replace("load.py", "b.py"),
        )
        found = self.settled(
            "f.json", STEPS, target, source, timeout=Decision("source"), run=Decision("edited", "c.py")
        )
        assert found is not None
        self.assertEqual(found.decode(), STEPS.replace("30", "60").replace('"load.py"', '"c.py"'))
        self.assertIsNone(self.settled("f.json", STEPS, target, source, timeout=Decision("source")))

    def test_values_are_written_as_the_format_needs_them(self) -> None:
        for name, base, a, b, value, want in (
            ("f.yaml", "k: one\n", "k: two\n", "k: three\n", "yes", 'k: "yes"\n'),
            ("f.yaml", "k: one\n", "k: two\n", "k: three\n", "plain words", "k: plain words\n"),
            (
                "p.xml",
                "<a k='1'><b/></a>",
                "<a k='2'><b/></a>",
                "<a k='3'><b/></a>",
                "x<&",
                '<a k="x&lt;&amp;"><b/></a>',
            ),
        ):
            (conflict,) = merged(name, base, a, b).open
            found = merged(name, base, a, b, decisions={conflict.id: Decision("edited", value)})
            self.assertEqual(found.content, want.encode())

    def test_both_sides_of_lines(self) -> None:
        found = merged("n.txt", "a\nb\n", "a\nx\n", "a\ny\n")
        (conflict,) = found.open
        both = merged("n.txt", "a\nb\n", "a\nx\n", "a\ny\n", decisions={conflict.id: Decision("both")})
        self.assertEqual(both.content, b"a\nx\ny\n")

    def test_removal_is_settled_either_way(self) -> None:
        removed = FLOW[: FLOW.index("  - id: load")] + FLOW[FLOW.index("limits") :]
        edited = FLOW.replace("load.py", "fast.py")
        (conflict,) = merged("f.yaml", FLOW, removed, edited).open
        for take, want in (("target", removed), ("source", edited)):
            found = merged("f.yaml", FLOW, removed, edited, decisions={conflict.id: Decision(take)})  # type: ignore[arg-type]
            assert found.content is not None
            self.assertEqual(yaml.safe_load(found.content), yaml.safe_load(want))


class TableTests(Case):
    """Columns, rows and cells."""

    BASE = "id,route,fare\n1,a,2.50\n2,b,3.00\n3,c,4.00\n"

    def test_rows_columns_and_cells_combine(self) -> None:
        target = "id,route,fare,quay\n1,a,2.60,N\n2,b,3.00,S\n3,c,4.00,S\n"
        source = "id,route,fare\n1,A,2.50\n3,c,4.00\n4,d,5.00\n"
        want = "id,route,fare,quay\n1,A,2.60,N\n3,c,4.00,S\n4,d,5.00,\n"
        self.assertEqual(self.combined("f.csv", self.BASE, target, source), want)

    def test_a_renamed_column_takes_the_other_sides_cells(self) -> None:
        target = self.BASE.replace("fare", "price")
        self.assertEqual(
            self.combined("f.csv", self.BASE, target, self.BASE.replace("3.00", "9.00")), target.replace("3.00", "9.00")
        )

    def test_one_cell_given_two_values_is_told_by_row_and_column(self) -> None:
        said = self.conflicts("f.csv", self.BASE, self.BASE.replace("3.00", "3.10"), self.BASE.replace("3.00", "3.20"))
        self.assertEqual(said, ["row “2”: fare was “3.00”; on the target it is “3.10”, on the source “3.20”"])

    def test_a_removed_column_that_the_other_side_used_conflicts(self) -> None:
        target = "id,route\n1,a\n2,b\n3,c\n"
        found = merged("f.csv", self.BASE, target, self.BASE.replace("3.00", "3.20"))
        (conflict,) = found.open
        self.assertEqual((conflict.type, conflict.label), ("column", "fare"))
        kept = merged(
            "f.csv", self.BASE, target, self.BASE.replace("3.00", "3.20"), decisions={conflict.id: Decision("source")}
        )
        self.assertEqual(kept.content, self.BASE.replace("3.00", "3.20").encode())

    def test_many_clashes_of_one_column_are_one_conflict(self) -> None:
        rows = [(n, n * 2) for n in range(200)]
        texts = ["id,fare\n" + "".join(f"{n},{f + k}\n" for n, f in rows) for k in (0, 1, 2)]
        found = merged("f.csv", *texts)
        self.assertEqual([(c.type, c.label) for c in found.open], [("column", "fare")])

    def test_dialects_quotes_and_ends_are_kept(self) -> None:
        base = '\ufeffid;note\r\n1;"a; ""b"""\r\n2;x\r\n3;y'
        target, source = base.replace("2;x", "2;xx"), base.replace("3;y", "3;yy")
        self.assertEqual(self.combined("f.csv", base, target, source), target.replace("3;y", "3;yy"))

    def test_rows_without_a_key_are_matched_by_content(self) -> None:
        base = "route,fare\na,1\na,1\nb,2\nc,3\n"
        self.assertEqual(
            self.combined("f.csv", base, base.replace("b,2", "b,5"), base + "d,4\n"),
            base.replace("b,2", "b,5") + "d,4\n",
        )

    def test_records_line_by_line(self) -> None:
        base = "".join(json.dumps({"id": n, "fare": n, "route": "r"}) + "\n" for n in range(9))
        target, source = base.replace('"fare": 3', '"fare": 30'), base.replace('4, "route": "r"', '4, "route": "x"')
        self.assertEqual(
            self.combined("f.jsonl", base, target, source), target.replace('4, "route": "r"', '4, "route": "x"')
        )


class PublishedFileTests(unittest.TestCase):
    """Two small edits to files that many programs wrote: both must be in the result, and nothing else may move."""

    TOKEN = re.compile(r"(?<=[\">: ])([A-Za-z]\w{2,}|\d{1,6})(?=[\"<,\s]|$)")
    SKIPPED = re.compile(r"xmlns|<\?xml|encoding|^\s*(?:#|//)")

    def test_edits_of_two_lines_combine_byte_for_byte(self) -> None:
        suffixes = (
            ".json",
            ".yaml",
            ".yml",
            ".cwl",
            ".xml",
            ".bpmn",
            ".dmn",
            ".feature",
            ".toml",
            ".sql",
            ".py",
            ".md",
        )
        told = []
        for group in ("pipeline", "process", "graph", "feature", "api", "app", "projects"):
            combined = conflicts = wrong = 0
            for name, data in published(group, suffixes, 100_000)[:120]:
                pair = self._pair(name, data)
                if pair is None:
                    continue
                found = merged(name, data, pair[0], pair[1])
                combined += found.content == pair[2]
                conflicts += found.content is None
                wrong += found.content not in (None, pair[2])
            told.append((group, combined, conflicts, wrong))
            say(f"{group}: {combined} pairs of edits combined, {conflicts} conflicts, {wrong} otherwise")
        total = sum(row[1] + row[2] + row[3] for row in told)
        self.assertGreater(total, 400)
        # Edits that happen to rename a key beside another change, and the like, may conflict or swap neighbours.
        self.assertGreaterEqual(sum(row[1] for row in told), total * 0.97)
        self.assertLessEqual(sum(row[3] for row in told), total * 0.01)

    def _pair(self, name: str, data: bytes) -> tuple[bytes, bytes, bytes] | None:
        try:
            lines = data.decode().split("\n")
        except UnicodeDecodeError:
            return None
        able = [n for n, line in enumerate(lines) if self.TOKEN.search(line) and not self.SKIPPED.search(line)]
        if len(able) < 4:
            return None
        first, second = random.Random(name).sample(able, 2)

        def edited(before: list[str], at: int, word: str) -> list[str]:
            match = list(self.TOKEN.finditer(before[at]))[-1]
            new = str(len(word) * 1117) if match[1].isdigit() else word
            return [*before[:at], before[at][: match.start()] + new + before[at][match.end() :], *before[at + 1 :]]

        target, source = edited(lines, first, "quayside"), edited(lines, second, "ferryman")
        both = edited(target, second, "ferryman")
        texts = ["\n".join(v).encode() for v in (target, source, both)]
        if not all(self._is_readable(name, text) for text in texts):
            return None
        return texts[0], texts[1], texts[2]

    @staticmethod
    def _is_readable(name: str, text: bytes) -> bool:
        try:
            if name.endswith(".json"):
                json.loads(text)
            elif name.endswith((".yaml", ".yml", ".cwl")):
                list(yaml.safe_load_all(text))
        except (ValueError, yaml.YAMLError):
            return False
        return True
