"""Editing one field, one cell or a text: what was wanted is said, and no other byte moves."""

from __future__ import annotations

import csv
import io
import json
import random
import re
import unittest
import xml.etree.ElementTree as ET
from typing import Any

import yaml
from hypothesis import given
from hypothesis import strategies as st

from everyshelf.core.compare.following import follow_part
from everyshelf.core.editing.cells import cells_of, set_cells
from everyshelf.core.editing.edits import CellEdit, FieldEdit
from everyshelf.core.editing.fields import set_fields
from everyshelf.core.editing.texts import set_text
from everyshelf.core.errors import ConflictError, InvalidError
from everyshelf.core.kinds.reading import read_outline, recognise_file
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.outline.model import Part
from everyshelf.core.tables.given import Given
from tests.support.factories import outlined
from tests.support.figures import say
from tests.support.laws import law
from tests.support.published import published

PIPELINE = b"""# Nightly load
name: nightly   # never renamed
steps:
  - id: fetch
    type: task
    parameters: {url: "http://gate", timeout: 30}
  - id: store   # the second one
    type: task
    parameters: {url: "http://store", timeout: 30}
"""
WORKFLOW = b"""<?xml version="1.0" encoding="UTF-8"?>
<definitions xmlns="http://www.omg.org/spec/BPMN/20100524/MODEL" targetNamespace="t">
  <process id="p">
    <startEvent id="s"   name='Begin'/>
    <task id="a" name="Weigh"><!-- keep --></task>
    <sequenceFlow id="f1" sourceRef="s" targetRef="a"><conditionExpression>load &gt; 3</conditionExpression></sequenceFlow>
  </process>
</definitions>
"""


def changed_bytes(before: bytes, after: bytes) -> tuple[bytes, bytes]:
    """What stands between the common beginning and the common end."""
    start = next(
        (k for k, (a, b) in enumerate(zip(before, after, strict=False)) if a != b), min(len(before), len(after))
    )
    end = 0
    while end < min(len(before), len(after)) - start and before[-1 - end] == after[-1 - end]:
        end += 1
    return before[start : len(before) - end], after[start : len(after) - end]


class FieldTests(unittest.TestCase):
    """Fields of parts, written where they stand."""

    def edited(self, name: str, data: bytes, part: str, field: str, value: Any) -> bytes:
        return set_fields(name, data, [FieldEdit(part, field, value)])

    def test_the_right_one_of_two_equal_values_changes(self) -> None:
        out = self.edited("load.yaml", PIPELINE, "/step:store/group:parameters", "timeout", 45)
        self.assertEqual(changed_bytes(PIPELINE, out), (b"30", b"45"))
        self.assertIn(b'"http://store", timeout: 45}', out)
        self.assertEqual(out.count(b"30"), 1)
        self.assertIn(b"# the second one", out)

    def test_an_attribute_and_a_text_of_xml_change_alone(self) -> None:
        out = self.edited("w.bpmn", WORKFLOW, "/process:p/step:a", "name", 'Weigh "twice" & go')
        self.assertEqual(changed_bytes(WORKFLOW, out)[0], b'"Weigh"')
        self.assertIn(b"<!-- keep -->", out)
        told = self.edited("w.bpmn", WORKFLOW, "/process:p/connection:f1", "condition", "load > 5")
        self.assertEqual(changed_bytes(WORKFLOW, told), (b"3", b"5"))

    def test_the_source_of_a_notebook_cell_is_written_as_lines(self) -> None:
        cells = [
            {"cell_type": "code", "id": "one", "metadata": {}, "outputs": [], "source": ["a = 1\n", "b = 2"]},
            {"cell_type": "markdown", "id": "two", "metadata": {}, "source": "# Title"},
        ]
        notebook = {"cells": cells, "metadata": {}, "nbformat": 4, "nbformat_minor": 5}
        data = json.dumps(notebook, indent=1).encode()
        out = json.loads(self.edited("n.ipynb", data, "/cell:one", "source", "a = 1\nb = 3\nc = 4"))
        self.assertEqual(out["cells"][0]["source"], ["a = 1\n", "b = 3\n", "c = 4"])
        self.assertEqual(out["cells"][1:], cells[1:])

    def test_types_stay_what_they_were(self) -> None:
        data = b'{"name": "x", "steps": [{"id": "a", "type": "t", "parameters": {"on": true, "n": 3, "s": "3"}}]}'
        for field, typed, written in (("on", "false", b'"on": false'), ("n", "4", b'"n": 4'), ("s", "4", b'"s": "4"')):
            with self.subTest(field=field):
                self.assertIn(written, self.edited("p.json", data, "/step:a/group:parameters", field, typed))

    def test_line_ends_encoding_and_mark_stay(self) -> None:
        data = b"\xef\xbb\xbf" + PIPELINE.replace(b"\n", b"\r\n")
        out = self.edited("load.yaml", data, "/step:fetch/group:parameters", "timeout", 5)
        self.assertEqual(changed_bytes(data, out), (b"30", b"5"))

    def test_what_cannot_be_changed_by_itself_says_so(self) -> None:
        with self.assertRaises(InvalidError) as caught:
            self.edited("load.yaml", PIPELINE, "/step:lost", "timeout", 1)
        self.assertEqual(caught.exception.code, "edit.part")
        with self.assertRaises(InvalidError) as caught:
            self.edited("load.yaml", PIPELINE, "/step:fetch", "no_such", "x")
        self.assertEqual(caught.exception.code, "edit.field")
        with self.assertRaises(InvalidError) as caught:
            self.edited("broken.yaml", PIPELINE + b"  : : [", "/step:fetch", "type", "x")
        self.assertEqual(caught.exception.code, "edit.field")

    def test_fields_of_published_files_change_and_nothing_else(self) -> None:
        """Some fields of files of many programs, each changed alone: one value differs, as other parsers read it."""
        rng, tried, done, wrong = random.Random(5), 0, 0, []
        groups = (
            ("pipeline", (".cwl",)),
            ("process", (".bpmn",)),
            ("graph", (".json",)),
            ("notebook", (".ipynb",)),
            ("api", (".yaml", ".json")),
            ("app", (".json", ".ui")),
        )
        files = [file for group, suffixes in groups for file in published(group, suffixes)[::5]]
        for name, data in files:
            outline = outlined(Given(name, data), Rules())
            if outline["read_as"] not in ("pipeline", "workflow", "app", "notebook", "settings", "api"):
                continue
            fields = [f for f in _fields(outline["parts"]) if isinstance(f[2], str | int) and f[2] not in ("", True)]
            for part, field, old in rng.sample(fields, min(3, len(fields))):
                tried += 1
                new = old + 1 if isinstance(old, int) and not isinstance(old, bool) else f"{old}x"
                try:
                    out = set_fields(name, data, [FieldEdit(part, field, new)])
                except InvalidError:
                    continue
                done += 1
                before, after = leaves(name, data), leaves(name, out)
                differing = [(x, y) for x, y in zip(before, after, strict=False) if x != y]
                if len(before) != len(after) or len(differing) != 1 or differing[0][1] != str(new):
                    wrong.append((name, part, field, differing[:3]))
        say(f"{done} of {tried} fields of published files changed by themselves")
        self.assertEqual(wrong, [])
        self.assertGreater(done, tried * 0.6, f"{done} of {tried}")


def leaves(name: str, data: bytes) -> list[str]:
    """Every value of a file in order, read by parsers that are not ours; a text kept as its lines is one."""
    if name.endswith((".bpmn", ".ui")):
        found = []
        for element in ET.fromstring(data).iter():
            found += [*element.attrib.values(), (element.text or "").strip(), (element.tail or "").strip()]
        return found
    flat: list[str] = []

    def walk(value: Any) -> None:
        if isinstance(value, dict):
            for inner in value.values():
                walk(inner)
        elif isinstance(value, list) and value and all(isinstance(v, str) for v in value) and "\n" in value[0]:
            flat.append("".join(value))
        elif isinstance(value, list):
            for inner in value:
                walk(inner)
        else:
            flat.append(str(value))

    walk(json.loads(data) if name.endswith((".json", ".ipynb")) else yaml.load(data, yaml.BaseLoader))
    return flat


def _fields(parts: list[dict[str, Any]]) -> list[tuple[str, str, Any]]:
    found = []
    for part in parts:
        found += [(part["path"], name, value) for name, value in part["fields"].items()]
        found += _fields(part["parts"])
    return found


class CellTests(unittest.TestCase):
    """Cells of a table, as they are written."""

    def test_one_cell_changes_and_no_other_byte(self) -> None:
        data = b'id;name;fare\r\n1;"A; b";2,50\r\n2;"say ""hi""";3\r\n'
        out = set_cells(data, [CellEdit(1, "fare", "4,00", was="3")])
        self.assertEqual(changed_bytes(data, out), (b"3", b"4,00"))
        quoted = set_cells(data, [CellEdit(0, "fare", "2;50")])
        self.assertIn(b'"2;50"', quoted)

    def test_a_cell_that_changed_meanwhile_is_a_conflict(self) -> None:
        with self.assertRaises(ConflictError) as caught:
            set_cells(b"id,fare\n1,2\n", [CellEdit(0, "fare", "9", was="3")])
        self.assertEqual(caught.exception.code, "edit.changed")
        for edit in (CellEdit(7, "fare", "1"), CellEdit(0, "lost", "1")):
            with self.assertRaises(InvalidError):
                set_cells(b"id,fare\n1,2\n", [edit])

    @law(60)
    @given(st.data())
    def test_an_edited_table_reads_as_the_table_with_that_cell(self, data: st.DataObject) -> None:
        cell = st.text(st.characters(codec="utf-8", exclude_characters="\r\0", exclude_categories=["Cs"]), max_size=8)
        width = data.draw(st.integers(2, 4))
        rows = data.draw(st.lists(st.lists(cell, min_size=width, max_size=width), min_size=2, max_size=6))
        columns = [f"c{n}" for n in range(width)]
        text = io.StringIO()
        csv.writer(text, lineterminator="\n").writerows([columns, *rows])
        given_bytes = text.getvalue().encode()
        shown = cells_of(given_bytes)
        if shown.note or shown.columns != columns:
            return  # not every table of random signs is told from text
        self.assertEqual(shown.rows, rows)
        row, column, value = (
            data.draw(st.integers(0, len(rows) - 1)),
            data.draw(st.integers(0, width - 1)),
            data.draw(cell),
        )
        edit = CellEdit(row, columns[column], value, was=rows[row][column])
        form = shown.forms[column]
        if form and value.strip() and not re.fullmatch(form, value.strip()):
            return  # a word among numbers, tested below
        out = set_cells(given_bytes, [edit])
        rows[row][column] = value
        self.assertEqual(list(csv.reader(io.StringIO(out.decode(), newline=""))), [columns, *rows])

    def test_a_value_has_the_form_of_its_column(self) -> None:
        table = (
            b"id,fare,sailed,on time,code,note\n1,2.50,2026-03-01,true,A1,\n2,3.00,2026-03-02,TRUE,22,\n"
            b"3,4.57,2026-03-03,false,C3,7\n4,,2026-03-04,false,44,8\n"
        )
        wanted = {
            "id": (["9", "-1", "2.5", " 7 ", ""], ["4.57a11.11", "2026-03-01", "1,5"]),
            "fare": (["11", "1e3", "N/A"], ["4.57a11.11", "4,57", "x"]),
            "sailed": (["2026-12-31", "null"], ["31.12.2026", "soon", "12"]),
            "on time": (["False"], ["yes", "1"]),
            "code": (["anything"], []),
            "note": (["see below"], []),
        }
        forms = dict(zip(cells_of(table).columns, cells_of(table).forms, strict=True))
        for column, (fit, misfit) in wanted.items():
            for value in fit:
                with self.subTest(column=column, value=value):
                    out = set_cells(table, [CellEdit(0, column, value)])
                    self.assertEqual(
                        dict(zip(wanted, next(csv.reader([out.decode().split("\n")[1]])), strict=True))[column], value
                    )
            for value in misfit:
                with self.subTest(column=column, value=value), self.assertRaises(InvalidError) as caught:
                    set_cells(table, [CellEdit(0, column, value)])
                self.assertEqual(caught.exception.code, "edit.form")
                self.assertIn(column, caught.exception.message)
                self.assertIsNone(re.fullmatch(forms[column], value))

    def test_a_cell_that_is_wrong_already_can_be_put_right(self) -> None:
        table = b"id,fare\n1,2.50\n2,3.00\n3,4.57a11.11\n"
        self.assertIn(b"3,4.57\n", set_cells(table, [CellEdit(2, "fare", "4.57")]))


class TextTests(unittest.TestCase):
    """A text from an editor that knows one kind of line end."""

    @law(150)
    @given(
        st.lists(st.tuples(st.sampled_from(["", "a", "b b", "é"]), st.sampled_from(["\n", "\r\n", "\r"])), max_size=8),
        st.sampled_from(["", "last"]),
        st.booleans(),
    )
    def test_an_untouched_text_stays_byte_for_byte(self, lines: list[tuple[str, str]], last: str, mark: bool) -> None:
        text = "".join(line + end for line, end in lines) + last
        data = (b"\xef\xbb\xbf" if mark else b"") + text.encode()
        shown = text.replace("\r\n", "\n").replace("\r", "\n")
        self.assertEqual(set_text(data, shown), data)

    def test_lines_that_stayed_keep_their_ends_and_new_ones_get_the_usual(self) -> None:
        self.assertEqual(set_text(b"a\r\nb\nc\r\nd\r\n", "a\nb\nnew\nc\nd\n"), b"a\r\nb\nnew\r\nc\r\nd\r\n")

    def test_the_encoding_stays_where_it_can(self) -> None:
        data = "Fähre\nKüste\nMöwe über dem Hafen\n".encode("cp1252")
        self.assertEqual(set_text(data, "Fähre\nKüsten\nMöwe über dem Hafen\n").decode("cp1252")[6:12], "Küsten")
        self.assertEqual(set_text(data, "Fähre → Küste\n").decode("utf-8"), "Fähre → Küste\n")


class FollowingTests(unittest.TestCase):
    """Where a part went."""

    def outline(self, tree: Any, name: str = "p.json") -> Part:
        data = json.dumps(tree).encode()
        return read_outline(name, data, recognise_file(name, data, Rules()), Rules()).root

    def test_items_without_identity_are_followed_by_content(self) -> None:
        before = {"name": "x", "steps": [{"type": "task", "run": f"job {n}", "after": [n]} for n in range(4)]}
        after = {"name": "x", "steps": [{"type": "task", "run": "new", "after": [9]}, *before["steps"]]}
        old, new = self.outline(before), self.outline(after)
        shown = outlined(Given("p.json", json.dumps(before).encode()), Rules())["parts"]
        path = next(p for p, f, v in _fields(shown) if v == "job 2")
        found = follow_part(old, new, path)
        self.assertIsNotNone(found.part)
        told = outlined(Given("p.json", json.dumps(after).encode()), Rules())["parts"]
        self.assertIn((found.part, "run", "job 2"), _fields(told))

    def test_a_part_that_went_to_another_parent_is_found(self) -> None:
        step = {"id": "weigh", "type": "task", "parameters": {"limit": 3, "gate": "north", "log": True}}
        before = {"name": "x", "stages": [{"id": "one", "steps": [step]}, {"id": "two", "steps": []}]}
        after = {"name": "x", "stages": [{"id": "one", "steps": []}, {"id": "two", "steps": [step]}]}
        old, new = self.outline(before), self.outline(after)
        path = next(
            p for p, f, v in _fields(outlined(Given("p.json", json.dumps(before).encode()), Rules())["parts"]) if v == 3
        )
        self.assertIn("two", follow_part(old, new, path).part or "")
        self.assertIsNone(follow_part(old, self.outline({"name": "x", "stages": []}), path).part)

    def test_what_never_was_there_is_left_where_it_is(self) -> None:
        root = self.outline({"name": "x"})
        self.assertEqual(follow_part(root, root, "/step:never").part, "/step:never")
