"""Comparison by meaning: expected findings are written down here by hand, from the files themselves."""

from __future__ import annotations

import itertools
import json
import random
import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from everyshelf.core.compare.artifact import ArtifactSide, compare_artifacts
from everyshelf.core.compare.sentences import headline
from everyshelf.core.compare.sequence import align, increasing
from everyshelf.core.errors import InvalidError
from everyshelf.core.kinds.recognise import recognise
from everyshelf.core.kinds.rules import parse_rules
from tests.support.factories import as_answer, compared, told
from tests.support.laws import law

TREES = st.recursive(
    st.none() | st.booleans() | st.integers(-5, 5) | st.text("abc", max_size=3),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.sampled_from("abcdef"), inner, max_size=4),
    max_leaves=20,
)
PIPELINE = {
    "name": "load",
    "steps": [{"id": "fetch", "run": "a"}, {"id": "clean", "depends_on": ["fetch"], "with": {"limit": 3}}],
}


class JsonTests(unittest.TestCase):
    """JSON, and what every outlined format shares."""

    @law(150)
    @given(TREES)
    def test_thing_with_itself_differs_in_nothing(self, tree: Any) -> None:
        self.assertTrue(compared(tree, json.dumps(tree, indent=3, sort_keys=True).encode())["equal"])

    @law(150)
    @given(TREES, TREES)
    def test_unequal_trees_are_told_apart(self, one: Any, other: Any) -> None:
        same = json.dumps(one, sort_keys=True) == json.dumps(other, sort_keys=True)
        if not same:
            self.assertFalse(compared(one, other)["equal"], (one, other))

    @law(100)
    @given(TREES, TREES)
    def test_swapping_sides_swaps_added_and_removed(self, one: Any, other: Any) -> None:
        there, back = compared(one, other)["counts"], compared(other, one)["counts"]
        self.assertEqual((there["added"], there["removed"]), (back["removed"], back["added"]))

    def test_one_nested_value_is_one_finding(self) -> None:
        before = {"a": {"b": [{"id": 1, "deep": {"x": [1, 2, 3], "y": 5}}], "c": "same"}}
        after = {"a": {"c": "same", "b": [{"deep": {"y": 6, "x": [1, 2, 3]}, "id": 1}]}}
        self.assertEqual(
            told(compared(before, after), cosmetic=True), [("changed", "/group:a/item:1/group:deep", "y", 5, 6)]
        )

    def test_unnamed_item_in_front_is_one_finding(self) -> None:
        before = [["Aldwick", 3, True], ["Brae", 4, False], ["Corran", 5, True]]
        found = told(compared(before, [["Dunmore", 9, True], *before]), cosmetic=True)
        self.assertEqual([f[:2] for f in found], [("added", "/item:#1")])
        self.assertEqual(
            told(compared(["b", "c"], ["a", "b", "c"]), cosmetic=True), [("added", "/item:#1", None, None, "a")]
        )

    def test_identity_is_found_whatever_it_is_called(self) -> None:
        before = [{"alpha": "AL", "berths": 2}, {"alpha": "BR", "berths": 3}, {"alpha": "CO", "berths": 1}]
        after = [{"alpha": "CO", "berths": 1}, {"alpha": "AL", "berths": 4}, {"alpha": "BR", "berths": 3}]
        found = compared({"harbours": before}, {"harbours": after})
        self.assertEqual(found["identity"], {"/list:harbours": ["alpha"]})
        self.assertIn(("changed", "/harbour:AL", "berths", 2, 4), told(found))
        self.assertEqual(found["counts"]["moved"], 1)

    def test_renamed_step_is_told_as_renamed(self) -> None:
        after = json.loads(json.dumps(PIPELINE).replace('"fetch", "run"', '"read", "run"'))
        found = told(compared(PIPELINE, after))
        self.assertIn(("renamed", "/step:read", None, "fetch", "read"), found)
        self.assertEqual({f[0] for f in found}, {"renamed"})

    def test_regenerated_ids_are_cosmetic(self) -> None:
        before = [{"id": f"n{n}", "label": word, "x": 1} for n, word in enumerate(("load", "clean", "store", "tell"))]
        after = [{**row, "id": f"k{n + 90}"} for n, row in enumerate(before)]
        found = compared({"boxes": before}, {"boxes": after})
        self.assertEqual(told(found), [])
        self.assertEqual(found["effects"]["cosmetic"], 1)

    def test_step_moved_to_another_group_has_moved(self) -> None:
        step = {"id": "tell", "to": "purser", "by": "mail", "at": "night"}
        found = told(
            compared(
                {"early": {"steps": [step]}, "late": {"steps": []}}, {"early": {"steps": []}, "late": {"steps": [step]}}
            )
        )
        self.assertEqual([f[0] for f in found], ["moved"])

    def test_true_is_not_one(self) -> None:
        self.assertEqual(told(compared({"a": True, "b": 1}, {"a": 1, "b": 1.0})), [("changed", "/", "a", True, 1)])

    def test_long_numbers_keep_every_digit(self) -> None:
        one, other = b'{"n": 12345678901234567890123}', b'{"n": 12345678901234567890124}'
        self.assertFalse(compared(one, other)["equal"])
        self.assertFalse(compared(b'{"n": 0.1234567890123456789}', b'{"n": 0.1234567890123456788}')["equal"])
        self.assertTrue(compared(b'{"n": 1e3}', b'{"n": 1000.0}')["equal"])

    def test_limit_cuts_findings_not_counts(self) -> None:
        before, after = {f"k{n}": 1 for n in range(50)}, {f"k{n}": 2 for n in range(50)}
        sides = [ArtifactSide("a.json", json.dumps(v).encode()) for v in (before, after)]
        found = compare_artifacts(*sides).as_json(limit=7)
        self.assertEqual((len(found["findings"]), found["truncated"], found["counts"]["changed"]), (7, True, 50))


class OtherFormatTests(unittest.TestCase):
    """YAML, XML, text."""

    def test_yaml_layout_means_nothing(self) -> None:
        before = b"# how we sail\nsteps:\n  - {id: a, on: yes}\n  - id: b\n    note: 'x'\n"
        after = b"steps:\n- id: a\n  on: yes\n- note: x\n  id: b\n"
        self.assertTrue(compared(before, after, "flow.yaml")["equal"])

    def test_yaml_words_follow_the_core_schema(self) -> None:
        self.assertTrue(compared(b"on: no\nt: 1:30\n", b"'on': 'no'\nt: '1:30'\n", "a.yaml")["equal"])
        self.assertFalse(compared(b"a: 010\n", b"a: 8\n", "a.yaml")["equal"])
        self.assertTrue(compared(b"a: 0o10\n", b"a: 8\n", "a.yaml")["equal"])

    def test_json_against_yaml_of_the_same(self) -> None:
        text = b"name: load\nsteps:\n- {id: fetch, run: a}\n- {id: clean, depends_on: [fetch], with: {limit: 3}}\n"
        before, after = ArtifactSide("load.json", json.dumps(PIPELINE).encode()), ArtifactSide("load.yaml", text)
        self.assertTrue(compare_artifacts(before, after).as_json()["equal"])

    def test_xml_layout_means_nothing(self) -> None:
        before = b'<?xml version="1.0"?><p:flow xmlns:p="urn:x"><p:step id="1" name="load"/><p:step id="2"/></p:flow>'
        after = (
            b"<flow xmlns='urn:x'>\r\n  <!-- saved -->\n <step name='load' id='1'></step>\n\t<step id='2'/>\n</flow>"
        )
        self.assertEqual(compared(before, after, "a.xml")["findings"], [])

    def test_xml_elements_in_another_order_are_cosmetic(self) -> None:
        found = compared(b"<a><b id='1'/><b id='2'/></a>", b"<a><b id='2'/><b id='1'/></a>", "a.xml")
        self.assertEqual((told(found), found["effects"]["cosmetic"]), ([], 1))

    def test_xml_with_undeclared_prefix_is_read(self) -> None:
        found = compared(b"<a><x:b v='1'/></a>", b"<a><x:b v='2'/></a>", "a.xml")
        self.assertEqual((found["read_as"], len(found["findings"])), ("settings", 1))

    def test_lines_are_told_by_runs(self) -> None:
        before = "".join(f"line {n}\n" for n in range(2000))
        after = before.replace("line 7\n", "line seven\n").replace("line 900\n", "").replace("line 10\n", "line  10\n")
        found = compared(before.encode(), after.replace("\n", "\r\n").encode(), "notes.txt")
        self.assertEqual(
            told(found),
            [("changed", "/line:8", None, "line 7", "line seven"), ("removed", "/line:901", None, "line 900", None)],
        )
        self.assertEqual(found["effects"]["cosmetic"], 2)  # line 10's blanks, and the line ends
        self.assertEqual(headline(as_answer(found)), "2 lines added, 3 lines removed")

    def test_workflow_drawing_is_one_cosmetic_finding(self) -> None:
        from everyshelf.demo import flows

        found = compared(flows.disruption(), flows.disruption(shift=40), "notice.bpmn")
        self.assertEqual((told(found), found["effects"]["cosmetic"]), ([], 1))

    def test_rewired_connection_touches_no_neighbour(self) -> None:
        from everyshelf.demo import flows

        found = compared(flows.disruption(), flows.disruption(tide_check=True), "notice.bpmn")
        self.assertEqual(
            sorted((f["action"], f["type"], f["label"]) for f in found["findings"] if f["effect"] != "cosmetic"),
            [
                ("added", "connection", "Check tide window → Over 30 min late?"),
                ("added", "step", "Check tide window"),
                ("changed", "connection", "Sailing at risk"),
            ],
        )

    def test_removed_output_breaks_users(self) -> None:
        from everyshelf.demo import flows

        found = compared(flows.nightly_cwl(), flows.nightly_cwl(zones=False), "nightly.cwl")
        self.assertEqual(
            [(f["action"], f["part"]) for f in found["findings"] if f["effect"] == "breaks"],
            [("removed", "/output:zones")],
        )


class TableTests(unittest.TestCase):
    """Delimited tables."""

    def test_counts_agree_with_an_independent_tally(self) -> None:
        rng = random.Random(9)
        before = {n: (rng.choice("ABC"), rng.randint(1, 9)) for n in rng.sample(range(5000), 800)}
        after = {
            n: ((zone, fare + 1) if rng.random() < 0.1 else (zone, fare))
            for n, (zone, fare) in before.items()
            if rng.random() > 0.05
        }
        after |= dict.fromkeys(range(6000, 6040), ("D", 1))
        rows = list(after.items())
        rng.shuffle(rows)
        found = compared(self.csv(before.items()), self.csv(rows, ";", "\r\n"), "fares.csv")
        table = found["table"]
        kept = before.keys() & after.keys()
        self.assertEqual(table["key"], ["id"])
        self.assertEqual(
            table["rows"],
            {
                "added": len(after.keys() - before.keys()),
                "removed": len(before.keys() - after.keys()),
                "changed": sum(before[n] != after[n] for n in kept),
                "before": len(before),
                "after": len(after),
            },
        )
        self.assertEqual(table["cells"]["fare"]["changed"], sum(before[n][1] != after[n][1] for n in kept))

    def csv(self, rows: Any, delimiter: str = ",", end: str = "\n") -> bytes:
        lines = [delimiter.join(("id", "zone", "fare"))] + [delimiter.join(map(str, (n, *cells))) for n, cells in rows]
        return (end.join(lines) + end).encode()

    def test_representation_is_counted_apart(self) -> None:
        found = compared(b"id,fare\n1,2.50\n2,3.0\n3,007\n", b"id,fare\n1,2.5\n2,3.1\n3,7\n", "f.csv")
        self.assertEqual(found["table"]["cells"]["fare"], {"changed": 2, "representation_only": 1})

    def test_renamed_column_is_found_by_content(self) -> None:
        before = b"id,zone\n" + b"".join(b"%d,Z%d\n" % (n, n) for n in range(20))
        found = compared(before, before.replace(b"id,zone", b"id,area"), "f.csv")
        self.assertEqual(told(found), [("renamed", "/column:area", None, "zone", "area")])
        self.assertEqual(found["effects"]["breaks"], 1)

    def test_rows_without_a_key_are_a_multiset(self) -> None:
        found = compared(b"a,b\nx,1\nx,1\ny,2\n", b"a,b\nx,1\ny,2\ny,2\ny,2\n", "f.csv")
        self.assertEqual(
            found["table"]["rows"] | {"key": found["table"]["key"]},
            {"added": 2, "removed": 1, "changed": 0, "before": 3, "after": 4, "key": []},
        )

    def test_declared_key_that_is_missing_is_an_error(self) -> None:
        with self.assertRaises(InvalidError) as caught:
            compared(b"a,b\n1,2\n", b"a,b\n1,3\n", "f.csv", key=["c"])
        self.assertEqual(caught.exception.code, "key.missing")

    def test_ragged_rows_and_titles_are_kept(self) -> None:
        before = b"Fares of March\nid,fare,zone\n1,2\n2,3,B\n3,4,C,more\n4,5,D\n"
        found = compared(before, before.replace(b"2,3,B", b"2,9,B"), "f.csv")
        self.assertEqual(found["table"]["rows"]["before"], 4)
        self.assertEqual(found["table"]["cells"]["fare"]["changed"], 1)


class HostileTests(unittest.TestCase):
    """Whatever a file does, there is an answer."""

    def read_as(self, data: bytes, name: str) -> tuple[str, str]:
        found = compared(data, data + b" ", name)
        return found["read_as"], found["note"]

    def test_broken_files_are_compared_as_text_and_say_why(self) -> None:
        for name, data, why in (
            ("a.json", b'{"a": 1', "line 1"),
            ("a.json", b'{"a": 1, "a": 2}', "twice"),
            ("a.yaml", b"a: [1\nb: 2", "line"),
            ("a.xml", b"<a><b></a>", "line 1"),
            ("deep.json", b"[" * 100_000 + b"]" * 100_000, "deep"),
            ("a.xml", b'<!DOCTYPE a [<!ENTITY x "y">]><a>&x;</a>', "entities"),
            (
                "a.yaml",
                b"a: &a [x, x]\n"
                + b"".join(b"%c: &%c [%s]\n" % (c, c, b",".join([b"*%c" % (c - 1)] * 30)) for c in range(98, 108)),
                "aliases",
            ),
        ):
            with self.subTest(name=name, data=data[:30]):
                read_as, note = self.read_as(data, name)
                self.assertEqual(read_as, "text")
                self.assertIn(why, note)

    def test_bytes_stay_bytes(self) -> None:
        self.assertEqual(self.read_as(b"\x00\x01\x02", "a.bin")[0], "bytes")
        self.assertEqual(self.read_as(b"", "a.json")[0], "text")


class RecogniseTests(unittest.TestCase):
    """Content beats a lying name."""

    def test_kinds_come_from_content(self) -> None:
        for kind, name, data in (
            ("notebook", "x.json", b'{"cells": [], "metadata": {}, "nbformat": 4}'),
            ("api", "x.yaml", b"openapi: 3.1.0\npaths: {}\n"),
            ("pipeline", "x.cwl", b"cwlVersion: v1.2\nsteps: {}\n"),
            ("pipeline", "x.txt", json.dumps(PIPELINE).encode()),
            ("workflow", "x.json", b'{"nodes": [{"id": 1}], "edges": [{"from": 1, "to": 2}]}'),
            ("workflow", "x.xml", b'<d:definitions xmlns:d="http://www.omg.org/spec/BPMN/20100524/MODEL"/>'),
            ("tests", "x.xml", b"<testsuites/>"),
            ("tests", "x.txt", b"# language: no\nEgenskap: Takster\n"),
            ("model", "x.xml", b"<PMML/>"),
            ("model", "x.bin", b"\x80\x04\x95"),
            ("picture", "x.csv", b"\x89PNG\r\n\x1a\n"),
            ("database", "x.json", b"SQLite format 3\0"),
            ("dataset", "x", b"a;b\n1;2\n3;4\n"),
            ("dataset", "x.json", b'[{"a": 1}, {"a": 2}]'),
            ("report", "x", b"<html></html>"),
            ("settings", "x.json", b'{"a": 1}'),
            ("opaque", "x.csv", b"\x00\x00\xff"),
            ("archive", "x.docx", b"PK\x03\x04 nothing known"),
            ("script", "run", b"#!/bin/sh\n"),
        ):
            with self.subTest(kind=kind, data=data[:30]):
                self.assertEqual(recognise(name, data).kind, kind)


class RulesTests(unittest.TestCase):
    """shelf.toml"""

    def test_mistakes_are_named(self) -> None:
        for text, words in (
            ("[ignore\n", "line 1"),
            ("[ignored]\n", "no such section"),
            ("[kinds]\n'*' = 'thing'\n", "is not a kind"),
            ("[ignore]\npatterns = 3\n", "list of texts"),
            ("keys = 1\n", "section"),
        ):
            with self.subTest(text=text), self.assertRaises(InvalidError) as caught:
                parse_rules(text)
            self.assertIn(words, caught.exception.message)

    def test_ignored_fields_are_left_out(self) -> None:
        rules = parse_rules('[fields]\nignore = ["stamp"]\n')
        self.assertTrue(compared({"a": 1, "stamp": 1}, {"a": 1, "stamp": 2}, rules=rules)["equal"])


class SequenceTests(unittest.TestCase):
    """Alignment is a common subsequence, and increasing runs are longest."""

    @law(200)
    @given(st.lists(st.integers(0, 6), max_size=30), st.lists(st.integers(0, 6), max_size=30))
    def test_pairs_are_equal_and_increasing(self, one: list[int], other: list[int]) -> None:
        pairs = align(one, other)
        self.assertTrue(all(one[i] == other[j] for i, j in pairs))
        self.assertTrue(all(a < c and b < d for (a, b), (c, d) in itertools.pairwise(pairs)))

    @law(100)
    @given(st.lists(st.integers(0, 50), max_size=12, unique=True))
    def test_run_is_longest(self, values: list[int]) -> None:
        found = [values[i] for i in increasing(values)]
        self.assertEqual(found, sorted(found))
        best: list[int] = []
        for value in values:
            best.append(1 + max((best[k] for k in range(len(best)) if values[k] < value), default=0))
        self.assertEqual(len(found), max(best, default=0))
