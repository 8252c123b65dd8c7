"""Merging drops nobody's side in silence: two people who change one value, or one comment, have a conflict, unless a
program writes it by itself; then the answer says which side's was taken."""

from __future__ import annotations

import copy
import json
import random
import re
import unittest
from collections import Counter
from collections.abc import Callable, Iterator
from typing import Any
from unittest import mock

import yaml
from lxml import etree

from everyshelf.core.merge.artifact import Versions, merge_artifacts
from everyshelf.core.merge.model import Decision, Merged
from everyshelf.core.merge.structure import StructureMerge
from tests.core.test_one_change import PlainYaml
from tests.support.figures import say
from tests.support.laws import SHARE
from tests.support.one_change import change_data, change_xml, places_of_data, places_of_xml
from tests.support.published import published

SECOND = "Wk3q"
Pairs = Iterator[tuple[bytes, bytes, bytes, str]]


def other_value(value: Any) -> Any:
    """Another value than ``one_change`` gives; None for what has only two."""
    if isinstance(value, bool):
        return None
    if isinstance(value, int | float):
        return value + 104_729
    return SECOND if value is None else f"{value}{SECOND}"


def data_pairs(name: str, data: bytes, rng: random.Random, most: int) -> Pairs:
    """Base, and one value changed in two ways."""
    is_json = name.endswith((".json", ".ipynb", ".side"))
    tree = json.loads(data) if is_json else yaml.load(data, PlainYaml)

    def written(value: Any) -> bytes:
        return json.dumps(value, indent=1).encode() if is_json else yaml.safe_dump(value, sort_keys=False).encode()

    places = [path for sort, path in places_of_data(tree) if sort == "value"]
    for path in places if len(places) <= most else rng.sample(places, most):
        one, change = change_data(tree, "value", path)
        value = other_value(change.before)
        if value is None:
            continue
        two = copy.deepcopy(tree)
        holder = two
        for step in path[:-1]:
            holder = holder[step]
        holder[path[-1]] = value
        yield written(tree), written(one), written(two), change.name


def xml_pairs(name: str, data: bytes, rng: random.Random, most: int) -> Pairs:
    """Base, and one text or attribute changed in two ways."""
    root = etree.fromstring(data)
    places = [place for place in places_of_xml(root) if place[0] in ("text", "attribute")]
    for sort, number, attribute in places if len(places) <= most else rng.sample(places, most):
        one, change = change_xml(root, sort, number, attribute)
        was = str(change.before).strip()
        if was in ("true", "false"):
            continue
        two = copy.deepcopy(root)
        element = list(two.iter(etree.Element))[number]
        value = f"{was}3" if was.isdigit() else f"{was}{SECOND}"
        if sort == "text":
            element.text = element.text.replace(was, value)
        else:
            element.set(attribute, value)
        yield etree.tostring(root), etree.tostring(one), etree.tostring(two), change.name


class NothingDropped(unittest.TestCase):
    """One value, two people."""

    def walk(
        self,
        title: str,
        group: str,
        suffixes: tuple[str, ...],
        pairs: Callable[[str, bytes, random.Random, int], Pairs],
        most: int,
    ) -> None:
        rng = random.Random(13)
        conflicts, made, tried = 0, Counter[str](), 0
        for name, data in published(group, suffixes):
            short = name.rpartition("/")[2]
            try:
                drawn = list(pairs(short, data, rng, most if SHARE >= 1 else max(1, most // 2)))
            except (ValueError, TypeError, yaml.YAMLError, etree.LxmlError, RecursionError):
                continue
            for base, target, source, field in drawn:
                merged = merge_artifacts(Versions(short, base, target, source))
                tried += 1
                conflicts += bool(merged.conflicts)
                if not merged.conflicts:
                    made[field] += 1
                    with self.subTest(file=name, field=field):
                        self.assertTrue(_says_so(merged), merged.notes)
        most_made = ", ".join(f"{field} {count}" for field, count in made.most_common(4))
        say(
            f"{title}: {tried} values changed on both sides, {conflicts} conflicts, {made.total()} written by programs "
            f"({most_made}), 0 dropped in silence"
        )
        self.assertGreater(conflicts, 30)

    def test_data(self) -> None:
        self.walk("CWL", "pipeline", (".cwl",), data_pairs, 1)
        self.walk("graphs", "graph", (".json",), data_pairs, 2)
        self.walk("test projects", "projects", (".side", ".yaml", "collection.json"), data_pairs, 4)
        self.walk("service descriptions", "api", (".yaml", ".yml"), data_pairs, 3)

    def test_notebooks(self) -> None:
        self.walk("notebooks", "notebook", (".ipynb",), data_pairs, 4)

    def test_xml(self) -> None:
        self.walk("BPMN and DMN", "process", (".bpmn", ".dmn"), xml_pairs, 8)
        self.walk("results", "results", (".xml",), xml_pairs, 6)
        self.walk("apps", "app", (".ui", ".glade"), xml_pairs, 3)


def _says_so(merged: Merged) -> bool:
    return any("a program writes" in note or "outputs" in note for note in merged.notes)


class Comments(unittest.TestCase):
    """One comment, two people; and one alone."""

    def test_comments_of_published_files(self) -> None:
        rng, tried = random.Random(4), 0
        pattern = re.compile(rb"(?m)(?:^|\s)#[^\n]*[a-z][^\n]*")
        for group, suffixes in (("pipeline", (".cwl",)), ("projects", (".yaml",)), ("api", (".yaml",))):
            for name, data in published(group, suffixes):
                found = list(pattern.finditer(data))
                for comment in rng.sample(found, min(2, len(found))):
                    one, two = (data[: comment.end()] + w + data[comment.end() :] for w in (b" alpha", b" beta"))
                    short = name.rpartition("/")[2]
                    tried += 1
                    with self.subTest(file=name, comment=comment.group()):
                        self.assertEqual(merge_artifacts(Versions(short, data, data, two)).content, two)
                        merged = merge_artifacts(Versions(short, data, one, two))
                        self.assertTrue(merged.conflicts)
                        for take, wanted in (("target", one), ("source", two)):
                            decided = {c.id: Decision(take) for c in merged.conflicts}  # type: ignore[arg-type]
                            settled = merge_artifacts(Versions(short, data, one, two), decisions=decided)
                            self.assertEqual(settled.content, wanted)
        say(f"comments: {tried} changed on both sides, all conflicts, all settled to either side byte for byte")
        self.assertGreater(tried, 200)


class MergeTests(unittest.TestCase):
    """What else merging owes people."""

    def merged(self, name: str, base: str, target: str, source: str, **decisions: Any) -> Merged:
        texts = [t.encode() for t in (base, target, source)]
        return merge_artifacts(Versions(name, *texts), decisions=decisions.get("decisions"))

    def test_descriptions_are_their_authors(self) -> None:
        base = '{"steps": [{"id": "scan", "run": "a.py", "description": "Scans"}, {"id": "load", "needs": ["scan"]}]}'
        sides = [base.replace("Scans", word) for word in ("Reads the ticket", "Looks at the ticket")]
        merged = self.merged("p.json", base, *sides)
        self.assertEqual([(c.part, c.field) for c in merged.conflicts], [("/step:scan", "description")])

    def test_coordinates_are_taken_from_a_side_and_told(self) -> None:
        base = (
            '{"nodes": [{"id": "a", "x": 1, "y": 1}, {"id": "b", "x": 2, "y": 1}], "edges": [{"from": "a", "to": "b"}]}'
        )
        merged = self.merged("w.json", base, base.replace('"x": 1', '"x": 40'), base.replace('"x": 1', '"x": 60'))
        assert merged.content is not None
        self.assertIn(b'"x": 40', merged.content)
        self.assertEqual(merged.conflicts, [])
        self.assertIn("1 value that a program writes differs on both sides", " ".join(merged.notes))

    def test_a_size_or_a_left_input_is_nobodys_layout(self) -> None:
        base = '{"steps": [{"id": "join", "left": "trips", "size": 5}, {"id": "load", "needs": ["join"]}]}'
        for word, one, two in (('"trips"', '"fares"', '"boats"'), ("5", "50", "500")):
            merged = self.merged("p.json", base, base.replace(word, one), base.replace(word, two))
            self.assertEqual(len(merged.conflicts), 1, word)

    def test_lines_that_end_in_a_lone_cr_are_lines(self) -> None:
        lines = [f"line {n}" for n in range(9)]
        base = "\r".join(lines)
        merged = self.merged(
            "notes.txt", base, base.replace("line 1", "line one"), base.replace("line 7", "line seven")
        )
        wanted = base.replace("line 1", "line one").replace("line 7", "line seven")
        self.assertEqual(merged.content, wanted.encode())

    def test_line_ends_that_one_side_changed_do_not_hide_the_other_sides_edit(self) -> None:
        base = "".join(f"line {n}\n" for n in range(9))
        merged = self.merged("notes.txt", base, base.replace("\n", "\r\n"), base.replace("line 7", "line seven"))
        self.assertEqual(merged.content, base.replace("line 7", "line seven").replace("\n", "\r\n").encode())

    def test_drawings_laid_out_twice_are_no_conflict(self) -> None:
        process = '<process id="p"><task id="a" name="Scan"/></process>'
        shapes = "".join(f'<BPMNShape id="s{n}" bpmnElement="a"/>' for n in range(4))
        base = f'<definitions xmlns="http://www.omg.org/spec/BPMN/20100524/MODEL">{process}<BPMNDiagram id="d"><BPMNPlane id="pl">{shapes}</BPMNPlane></BPMNDiagram></definitions>'
        turned = [
            base.replace(
                shapes, "".join(re.findall("<BPMNShape.*?/>", shapes)[k:] + re.findall("<BPMNShape.*?/>", shapes)[:k])
            )
            for k in (1, 2)
        ]
        self.assertEqual(self.merged("w.bpmn", base, *turned).conflicts, [])

    def test_decisions_do_not_cost_a_second_merge(self) -> None:
        base = '{"steps": [{"id": "scan", "timeout": 3}, {"id": "load", "needs": ["scan"]}]}'
        sides = [base.replace("3", n) for n in ("30", "300")]
        first = self.merged("p.json", base, *sides)
        with mock.patch.object(StructureMerge, "run", autospec=True, side_effect=StructureMerge.run) as run:
            decided = {c.id: Decision("source") for c in first.conflicts}
            settled = self.merged("p.json", base, *sides, decisions=decided)
        self.assertEqual((settled.content, run.call_count), (sides[1].encode(), 1))
