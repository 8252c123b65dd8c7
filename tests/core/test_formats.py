"""Syntaxes: what real files do, read as they mean it."""

from __future__ import annotations

import json
import unittest
from decimal import Decimal
from typing import Any

import yaml
from hypothesis import given
from hypothesis import strategies as st

from everyshelf.core.errors import InvalidError, UnreadableError
from everyshelf.core.formats.json import parse_json
from everyshelf.core.formats.tables import find_delimiter, parse_table
from everyshelf.core.formats.text import decode
from everyshelf.core.formats.xml import Element, parse_xml
from everyshelf.core.formats.yaml import parse_yaml
from tests.support.laws import law

VALUES = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False, allow_infinity=False) | st.text(max_size=8),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=5), inner, max_size=4),
    max_leaves=12,
)


class TextTests(unittest.TestCase):
    """Encodings, marks and line ends."""

    def test_marks_decide_the_encoding(self) -> None:
        for encoding, mark in (("utf-8", b"\xef\xbb\xbf"), ("utf-16-le", b"\xff\xfe"), ("utf-16-be", b"\xfe\xff")):
            found = decode(mark + "Fähre 渡し".encode(encoding))
            self.assertEqual((found.text, found.encoding, found.mark), ("Fähre 渡し", encoding, True))

    def test_other_encodings_are_found(self) -> None:
        text = "Überfahrt nach Färö dauert länger, sagt die Behörde. " * 20
        self.assertEqual(decode(text.encode("cp1252")).text, text)
        japanese = "渡し船の時刻表は来月から変わります。港で確認してください。" * 20
        self.assertEqual(decode(japanese.encode("shift_jis")).text, japanese)

    def test_chosen_encoding_is_taken_at_its_word(self) -> None:
        self.assertEqual(decode(b"\xe4", "latin-1").text, "ä")
        with self.assertRaises(UnreadableError):
            decode(b"\xe4", "utf-8")
        with self.assertRaises(InvalidError):
            decode(b"a", "no-such-encoding")

    def test_line_ends_are_told_and_taken_off(self) -> None:
        for newline in ("\n", "\r\n", "\r"):
            found = decode(newline.join(("one", "two", "")).encode())
            self.assertEqual((found.newline, found.lines()), (newline, ["one", "two"]))
        self.assertEqual(decode(b"").lines(), [])
        self.assertEqual(decode(b"no end").lines(), ["no end"])

    def test_bytes_with_nul_are_no_text(self) -> None:
        with self.assertRaises(UnreadableError):
            decode(b"a\x00b")


class JsonTests(unittest.TestCase):
    """RFC 8259, and what files have beside it."""

    @law(150)
    @given(VALUES)
    def test_any_tree_reads_back(self, tree: Any) -> None:
        self.assertEqual(parse_json(json.dumps(tree).encode()), tree)

    def test_numbers_keep_their_value(self) -> None:
        tree = parse_json(b"[1, 1.0, 1e2, 9007199254740993, 0.1, 0.10000000000000000000001, NaN, -Infinity]")
        self.assertEqual(tree[3], 9007199254740993)
        self.assertIsInstance(tree[4], float)
        self.assertEqual(tree[5], Decimal("0.10000000000000000000001"))
        self.assertNotEqual(tree[6], tree[6])
        self.assertEqual(tree[7], float("-inf"))

    def test_mistakes_name_their_place(self) -> None:
        for data, words in (
            (b'{"a": 1,\n "b" 2}', "line 2"),
            (b'{"zone": 1, "zone": 2}', "“zone” appears twice"),
            (b"[1" + b"0" * 5000 + b"]", "digits"),
            (b"", "line 1"),
            (b'{"a": "\x01"}', "control character"),
        ):
            with self.subTest(data=data[:20]), self.assertRaises(UnreadableError) as caught:
                parse_json(data)
            self.assertIn(words, caught.exception.message)


class YamlTests(unittest.TestCase):
    """YAML 1.2, core schema."""

    def test_scalars_follow_the_core_schema(self) -> None:
        for text, value in (
            ("on", "on"),
            ("no", "no"),
            ("yes", "yes"),
            ("1:30", "1:30"),
            ("0o17", 15),
            ("0x1F", 31),
            ("017", 17),
            ("1_000", "1_000"),
            ("~", None),
            ("null", None),
            ("", None),
            ("true", True),
            ("False", False),
            ("1e3", 1000.0),
            (".5", 0.5),
            ("-.inf", float("-inf")),
            ("'1'", "1"),
            ('"true"', "true"),
            ("2026-03-01", "2026-03-01"),
            ("+12", 12),
            ("1.", 1.0),
            ("!!str 5", "5"),
            ("!zone Z1", "!zone Z1"),
        ):
            with self.subTest(text=text):
                self.assertEqual(parse_yaml(f"a: {text}\n".encode()), {"a": value})

    @law(100)
    @given(VALUES.filter(lambda tree: isinstance(tree, dict | list)))
    def test_what_another_writer_dumps_reads_back(self, tree: Any) -> None:
        text = yaml.safe_dump(json.loads(json.dumps(tree)), allow_unicode=True)
        if "\x85" not in text and "\u2028" not in text:
            self.assertEqual(json.loads(json.dumps(parse_yaml(text.encode()))), json.loads(json.dumps(tree)))

    def test_anchors_merges_and_documents_are_read(self) -> None:
        tree = parse_yaml(b"base: &b {x: 1, y: 2}\nuse: {<<: *b, y: 3}\nagain: *b\n")
        self.assertEqual(tree, {"base": {"x": 1, "y": 2}, "use": {"x": 1, "y": 3}, "again": {"x": 1, "y": 2}})
        self.assertEqual(parse_yaml(b"a: 1\n---\nb: 2\n"), [{"a": 1}, {"b": 2}])
        self.assertIsNone(parse_yaml(b"# nothing but a comment\n"))

    def test_mistakes_and_attacks_are_refused(self) -> None:
        for data, words in (
            (b"a: 1\na: 2\n", "line 2"),
            (b"a: [1, 2\nb: 3\n", "line"),
            (b"a: &x [*x]\n", "contains it"),
            (b"[" * 500 + b"]" * 500, "levels deep"),
            (b"a:\n\t- b\n", "line 2"),
        ):
            with self.subTest(data=data[:20]), self.assertRaises(UnreadableError) as caught:
                parse_yaml(data)
            self.assertIn(words, caught.exception.message)


class XmlTests(unittest.TestCase):
    """XML 1.0 with namespaces."""

    def test_prefixes_play_no_part(self) -> None:
        one = parse_xml(b'<a:r xmlns:a="urn:x"><a:c v="1"/></a:r>')
        other = parse_xml(b'<r xmlns="urn:x"><c v="1"></c></r>')
        self.assertEqual(one, other)
        self.assertEqual((one.tag, one.name), ("{urn:x}r", "r"))

    def test_layout_is_left_out_and_text_kept(self) -> None:
        tree = parse_xml(b"<a>\n  <!-- saved today -->\n  <?note x?>\n  <b> two  words </b> tail <c/>\n</a>")
        self.assertEqual([c.tag for c in tree.children], ["b", "#text", "c"])
        self.assertEqual((tree.children[0].text, tree.children[1].text), ("two  words", "tail"))

    def test_nothing_outside_is_read(self) -> None:
        for data in (
            b'<!DOCTYPE a [<!ENTITY x SYSTEM "file:///etc/passwd">]><a>&x;</a>',
            b'<!DOCTYPE a [<!ENTITY x "' + b"y" * 100 + b'"><!ENTITY z "&x;&x;">]><a>&z;</a>',
        ):
            with self.assertRaises(UnreadableError):
                parse_xml(data)
        self.assertEqual(parse_xml(b'<!DOCTYPE a SYSTEM "http://127.0.0.1:1/a.dtd"><a/>'), Element("a", {}, "", ()))

    def test_mistakes_name_their_line(self) -> None:
        for data, words in (
            (b"<a>\n<b>\n</a>", "line 3"),
            (b"", ""),
            (b"<a/><b/>", "line 1"),
            (b"<a x=1/>", "line 1"),
            (b"<a>" * 300 + b"</a>" * 300, ""),
        ):
            with self.subTest(data=data[:20]), self.assertRaises(UnreadableError) as caught:
                parse_xml(data)
            self.assertIn(words, caught.exception.message)


class TableTests(unittest.TestCase):
    """Delimited tables and their relatives."""

    def test_dialect_is_found(self) -> None:
        for delimiter in (",", ";", "\t", "|"):
            text = f'id{delimiter}name{delimiter}note\n1{delimiter}"a, b; c"{delimiter}x\n2{delimiter}d{delimiter}"line\nbreak"\n'
            table = parse_table(text.encode())
            self.assertEqual(table.dialect["delimiter"], delimiter)
            self.assertEqual(table.rows, [("1", "a, b; c", "x"), ("2", "d", "line\nbreak")])

    def test_decimal_commas_do_not_mislead(self) -> None:
        self.assertEqual(find_delimiter("zone;fare\nA;2,50\nB;3,10\nC;1,00\n"), ";")

    def test_headers_are_told_from_rows(self) -> None:
        self.assertEqual(parse_table(b"id,fare\n1,2\n").columns, ["id", "fare"])
        bare = parse_table(b"1,2\n3,4\n")
        self.assertEqual((bare.header, bare.columns, len(bare.rows)), (False, ["column 1", "column 2"], 2))
        self.assertEqual(parse_table(b"a,,a \nx,1,y\n").columns, ["a", "column 2", "a (2)"])

    def test_titles_above_are_kept_apart(self) -> None:
        table = parse_table(b"Fares 2026\nin euro\nid,fare,zone\n1,2,A\n2,3,B\n")
        self.assertEqual(
            (table.preamble, table.columns, len(table.rows)), (["Fares 2026", "in euro"], ["id", "fare", "zone"], 2)
        )

    def test_what_is_no_table_says_so(self) -> None:
        for data in (b"just one line", b"\x00\x01"):
            with self.assertRaises(UnreadableError):
                parse_table(data)

    @law(80)
    @given(
        st.lists(
            st.lists(st.text(st.characters(exclude_categories=("Cs", "Cc")), max_size=6), min_size=3, max_size=3),
            min_size=2,
            max_size=20,
        )
    )
    def test_what_another_writer_writes_reads_back(self, rows: list[list[str]]) -> None:
        import csv
        import io

        out = io.StringIO()
        csv.writer(out).writerows([["id", "left", "right"], *([f"k{n}", *row[1:]] for n, row in enumerate(rows))])
        table = parse_table(out.getvalue().encode(), delimiter=",")
        self.assertEqual(table.rows, [(f"k{n}", *row[1:]) for n, row in enumerate(rows)])
