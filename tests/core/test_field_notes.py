"""What real files do: several things at once, and none of them rare."""

from __future__ import annotations

import copy
import gzip
import json
import random
import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from everyshelf.core.compare.artifact import ArtifactSide, compare_artifacts
from tests.support.factories import compared, told
from tests.support.laws import law

HARBOURS = [
    {"alpha_2": "AW", "code": "AW-1", "name": "Aldwick", "quays": 3},
    {"alpha_2": "BR", "code": "BR-1", "name": "Brae", "quays": 1},
    {"alpha_2": "CO", "code": "CO-1", "name": "Corran", "quays": 2},
]


def text_of(tree: Any, **how: Any) -> bytes:
    return json.dumps(tree, **how).encode()


class TextTests(unittest.TestCase):
    """Any text format."""

    def test_line_ends_marks_and_final_newlines_mean_nothing(self) -> None:
        files = {
            "a.json": text_of(HARBOURS, indent=2),
            "a.yaml": b"name: Brae\nquays: 1\n",
            "a.xml": b"<h>\n  <q n='1'/>\n</h>\n",
            "a.md": b"# Plan\n\none\ntwo\n",
            "a.feature": b"Feature: a\n\n  Scenario: b\n    Given c\n",
            "a.ini": b"[a]\nb = 1\n",
            "a.py": b"a = 1\nb = 2\n",
            "a.sql": b"SELECT 1;\nSELECT 2;\n",
        }
        for name, data in files.items():
            for change in (
                lambda d: d.replace(b"\n", b"\r\n"),
                lambda d: d.replace(b"\n", b"\r"),
                lambda d: d.rstrip(b"\n"),
                lambda d: b"\xef\xbb\xbf" + d,
            ):
                with self.subTest(name=name, change=change(data)[:12]):
                    found = compared(data, change(data), name)
                    self.assertEqual(told(found), [], found["note"])

    def test_other_encodings_are_the_same_file(self) -> None:
        for name, text in (
            ("a.json", '{"name": "Skärhamn"}'),
            ("a.xml", "<a b='Skärhamn'/>"),
            ("a.yaml", "name: Skärhamn\n"),
            ("a.md", "# Skärhamn\n"),
        ):
            self.assertEqual(told(compared(text.encode(), text.encode("utf-16"), name)), [], name)
        japanese = "港: 青森\n名: 函館\n" * 20
        found = compared(japanese.encode(), japanese.encode("shift-jis"), "a.txt")
        self.assertEqual(told(found), [])

    def test_compressed_under_another_name_is_the_same_artifact(self) -> None:
        data = text_of(HARBOURS, indent=1)
        edited = data.replace(b'"quays": 1', b'"quays": 4')
        sides = ArtifactSide("harbours.json", data), ArtifactSide("2026/harbours.json.gz", gzip.compress(edited))
        found = compare_artifacts(*sides).as_json()
        self.assertEqual([(f, b, c) for _, _, f, b, c in told(found)], [(None, None, None)])
        self.assertIn("compressed with", [f.get("field") for f in found["findings"]])

    def test_damaged_and_growing_compression_is_compared_as_bytes(self) -> None:
        for data in (gzip.compress(b"abc")[:-4], gzip.compress(bytes(80_000_000), 9), b"\x1f\x8b\0nothing"):
            found = compare_artifacts(
                ArtifactSide("a.json.gz", data), ArtifactSide("a.json.gz", data + b"\1")
            ).as_json()
            self.assertEqual(found["read_as"], "bytes")

    def test_document_of_one_line_of_half_a_megabyte(self) -> None:
        rows = [{"id": f"s{n}", "note": "x" * 80, "late": n % 7} for n in range(4000)]
        after = copy.deepcopy(rows)
        after[1234]["late"] = 99
        found = compared({"rows": rows}, text_of({"rows": after}, separators=(",", ":")), "one.json")
        self.assertEqual(told(found), [("changed", "/row:s1234", "late", 1234 % 7, 99)])

    @law(30)
    @given(st.randoms(use_true_random=False))
    def test_an_edit_is_seen_through_everything_at_once(self, rng: random.Random) -> None:
        """Keys re-ordered, blocks re-indented, lines ended otherwise, the file renamed, and one value changed."""
        tree = {
            f"port-{k}": {
                "quays": rng.randint(1, 9),
                "open": rng.choice([True, False]),
                "berths": [{"code": f"b{n}", "metres": n} for n in range(5)],
            }
            for k in range(8)
        }
        after = copy.deepcopy(tree)
        port = rng.choice(list(after))
        after[port]["berths"][2]["metres"] = 77
        shuffled = list(after.items())
        rng.shuffle(shuffled)
        data = text_of({k: dict(reversed(v.items())) for k, v in shuffled}, indent=rng.choice([1, 3, 4])).replace(
            b"\n", b"\r\n"
        )
        sides = ArtifactSide("ports.json", text_of(tree)), ArtifactSide("2026/Ports (2).json", data)
        found = compare_artifacts(*sides).as_json()
        self.assertEqual(
            [(p, f, b, c) for _, p, f, b, c in told(found)], [(f"/group:{port}/berth:b2", "metres", 2, 77)]
        )


class StructureTests(unittest.TestCase):
    """JSON, YAML, XML."""

    def test_identity_is_hardly_ever_called_id(self) -> None:
        for field in ("alpha_2", "code", "name"):
            rows = [{field: h[field], "quays": h["quays"], "area": {"km": 1}} for h in HARBOURS]
            after = [copy.deepcopy(rows[2]), {field: "New", "quays": 9, "area": {"km": 2}}, *copy.deepcopy(rows[:2])]
            after[2]["quays"] = 5
            found = compared({"harbours": rows}, {"harbours": after})
            told_here = [(a, f) for a, _, f, _, _ in told(found) if a in ("changed", "added", "removed")]
            with self.subTest(field=field):
                self.assertEqual(sorted(told_here, key=str), [("added", None), ("changed", "quays")])
                self.assertEqual(found["identity"], {"/list:harbours": [field]})

    def test_a_pair_of_fields_may_be_the_identity(self) -> None:
        rows = [{"method": m, "path": p, "limit": 1} for m in ("GET", "PUT") for p in ("/a", "/b")]
        after = copy.deepcopy(rows[::-1])
        after[0]["limit"] = 9
        found = compared({"calls": rows}, {"calls": after})
        self.assertEqual([f for a, _, f, _, _ in told(found) if a == "changed"], ["limit"])

    def test_map_in_one_version_and_list_in_the_next(self) -> None:
        as_map = {h["code"]: {k: v for k, v in h.items() if k != "code"} for h in HARBOURS}
        after = copy.deepcopy(HARBOURS)
        after[1]["quays"] = 7
        self.assertEqual(told(compared({"harbours": as_map}, {"harbours": HARBOURS})), [])
        self.assertEqual(
            [(f, b, c) for _, _, f, b, c in told(compared({"harbours": as_map}, {"harbours": after}))],
            [("quays", 1, 7)],
        )

    def test_list_of_lists(self) -> None:
        rows = [["Aldwick", 3, "N"], ["Brae", 1, "S"], ["Corran", 2, "N"]]
        after = [rows[0], ["Tarn", 6, "E"], rows[1], rows[2]]
        self.assertEqual([a for a, *_ in told(compared({"rows": rows}, {"rows": after}))], ["added"])

    def test_numbers_are_values_not_spellings(self) -> None:
        self.assertEqual(
            compared(b'{"a": 1, "b": 1.50, "c": 100}', b'{"a": 1.0, "b": 15e-1, "c": 1e2}')["findings"], []
        )
        big = 2**53
        found = compared(f'{{"a": {big + 1}}}'.encode(), f'{{"a": {big + 2}}}'.encode())
        self.assertEqual([(b, c) for *_, b, c in told(found)], [(big + 1, big + 2)])
        self.assertEqual(compared(b'{"a": NaN, "b": Infinity}', b'{"b": Infinity, "a": NaN}')["findings"], [])

    def test_yaml_that_differs_in_comments_anchors_and_styles_only(self) -> None:
        before = b"base: &b {wind: 20, sea: calm}\nnorth: *b\nnote: >\n  one\n  two\n"
        after = b'# checked\nnorth: {sea: \'calm\', wind: 20}\nbase:\n  wind: 20\n  sea: "calm"\nnote: "one two\\n"\n'
        found = compared(before, after, "a.yaml")
        self.assertEqual((found["findings"], found["note"]), ([], "written differently, means the same"))

    def test_yaml_words_are_read_by_the_core_schema(self) -> None:
        self.assertEqual(
            compared(b"a: on\nb: no\nc: 1:30\nd: 0o7\n", b'a: "on"\nb: "no"\nc: "1:30"\nd: 7\n', "a.yaml")["findings"],
            [],
        )
        self.assertEqual(len(told(compared(b"a: yes\n", b"a: true\n", "a.yaml"))), 1)

    def test_several_documents_are_told_apart(self) -> None:
        found = compared(b"name: a\nx: 1\n---\nname: b\nx: 2\n", b"name: a\nx: 1\n---\nname: b\nx: 3\n", "a.yaml")
        self.assertEqual([(f, b, c) for _, _, f, b, c in told(found)], [("x", 2, 3)])

    def test_order_is_content_in_some_lists_and_noise_where_said_so(self) -> None:
        from everyshelf.core.kinds.rules import parse_rules

        before, after = {"stops": ["Quay", "Brae", "Tarn"]}, {"stops": ["Brae", "Quay", "Tarn"]}
        self.assertEqual([a for a, *_ in told(compared(before, after))], ["moved"])
        rules = parse_rules('[order]\n"*.json" = {stops = "means nothing"}\n')
        self.assertEqual(told(compared(before, after, rules=rules)), [])

    def test_declared_identity_overrules_the_one_that_was_found(self) -> None:
        from everyshelf.core.kinds.rules import parse_rules

        before = {
            "berths": [
                {"id": 1, "quay": "N", "number": 4, "metres": 20},
                {"id": 2, "quay": "S", "number": 4, "metres": 30},
            ]
        }
        after = {
            "berths": [
                {"id": 1, "quay": "S", "number": 4, "metres": 30},
                {"id": 2, "quay": "N", "number": 4, "metres": 25},
            ]
        }
        rules = parse_rules('[identity]\n"*.json" = {berths = ["quay", "number"]}\n[fields]\nignore = ["id"]\n')
        found = compared(before, after, rules=rules)
        self.assertEqual([(p, f, c) for a, p, f, _, c in told(found) if a == "changed"], [("/berth:N,4", "metres", 25)])

    def test_rules_that_cannot_be_meant_are_refused_with_their_place(self) -> None:
        from everyshelf.core.errors import InvalidError
        from everyshelf.core.kinds.rules import parse_rules

        for text, words in (
            ('[identity]\n"*.json" = ["id"]\n', "which fields identify"),
            ('[identity]\n"*.json" = {a = []}\n', "at least one field"),
            ('[order]\n"*.json" = {a = "no"}\n', '"counts" or "means nothing"'),
            ('[order]\n"*.json" = true\n', "of which list"),
            ("[orders]\n", "no such section"),
        ):
            with self.subTest(text=text), self.assertRaises(InvalidError) as caught:
                parse_rules(text)
            self.assertIn(words, caught.exception.message)


if __name__ == "__main__":
    unittest.main()
