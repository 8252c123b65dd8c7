"""Values that differ per environment, put into artifacts of every form."""

from __future__ import annotations

import json
import tomllib
import unittest
from typing import Any
from xml.etree import ElementTree

import yaml
from hypothesis import given
from hypothesis import strategies as st

from everyshelf.core.errors import InvalidError
from everyshelf.core.kinds.rules import parse_rules
from everyshelf.core.promotion.bindings import bind, needed
from tests.support.laws import law

RULES = parse_rules("""
[bindings]
ROLE = {in = "*.bpmn"}
ADDRESS = {in = ["*.json", "*.yaml", "*.toml", "*.xml", "*.sql"]}
SEATS = {in = "*.json", part = "/group:limits", field = "seats"}
""")
VALUES = st.text(st.characters(exclude_categories=["Cs"]))
XML_VALUES = st.text(st.characters(exclude_categories=["Cs", "Cc"], exclude_characters="\ufffe\uffff"))  # XML 1.0, 2.2


class BindingTests(unittest.TestCase):
    """Only what is declared is put in, and nothing else moves."""

    def bound(self, path: str, text: str, **values: str) -> str:
        return bind(path, text.encode(), RULES, values).data.decode()

    def test_nothing_else_in_the_file_moves(self) -> None:
        text = '{\n  "feed" : "https://${ADDRESS}/tides",   "other": "${UNKNOWN}",\n\t"limits": {"seats": 12}}\n'
        self.assertEqual(
            self.bound("a.json", text, ADDRESS="harbour.example", SEATS="40"),
            text.replace("${ADDRESS}", "harbour.example").replace("12", "40"),
        )

    def test_what_is_used_and_what_is_missing_is_told(self) -> None:
        found = bind("a.json", b'{"to": "${ADDRESS}", "limits": {"seats": 1}}', RULES, {"ADDRESS": "x"})
        self.assertEqual((found.used, found.missing), (("ADDRESS",), ("SEATS",)))
        self.assertEqual(needed("a.toml", b'to = "${ADDRESS}"', RULES), ["ADDRESS"])
        self.assertEqual(needed("a.toml", b'to = "${ROLE}"', RULES), [])  # ROLE is for processes
        self.assertEqual(needed("notes.md", b"${ADDRESS}", RULES), [])

    def test_a_field_of_a_part_keeps_its_type(self) -> None:
        found = self.bound("a.json", '{"limits": {"seats": 12, "crew": "3"}}', SEATS="40")
        self.assertEqual(json.loads(found), {"limits": {"seats": 40, "crew": "3"}})

    def test_a_part_that_is_not_there_is_said(self) -> None:
        with self.assertRaises(InvalidError) as caught:
            self.bound("a.json", '{"nothing": 1}', SEATS="40")
        self.assertEqual(caught.exception.code, "binding.place")
        self.assertIn("/group:limits", caught.exception.message)

    def test_what_would_break_the_file_is_refused_without_telling_the_value(self) -> None:
        for path, text in (("a.toml", 'to = "${ADDRESS}"\n'), ("a.xml", "<a><b>${ADDRESS}</b></a>")):
            with self.subTest(path=path), self.assertRaises(InvalidError) as caught:
                self.bound(path, text, ADDRESS='tern-4711"\n\x01')
            self.assertEqual(caught.exception.code, "binding.unreadable")
            self.assertNotIn("tern-4711", f"{caught.exception.message} {caught.exception.hint}")

    def test_lines_of_a_notebook_and_keys_are_texts_as_well(self) -> None:
        rules = parse_rules('[bindings]\nADDRESS = {in = "*.ipynb"}\n')
        cell = {"cell_type": "code", "metadata": {}, "source": ["a = 1\n", "get('${ADDRESS}')\n"], "outputs": []}
        text = json.dumps({"cells": [cell], "metadata": {}, "nbformat": 4, "nbformat_minor": 5}, indent=1)
        found = json.loads(bind("a.ipynb", text.encode(), rules, {"ADDRESS": 'x"y'}).data)
        self.assertEqual(found["cells"][0]["source"], ["a = 1\n", "get('x\"y')\n"])

    def test_an_encoding_is_kept(self) -> None:
        text = '<?xml version="1.0" encoding="ISO-8859-1"?>\n<a to="${ADDRESS}">Fähre</a>\n'
        found = bind("a.xml", text.encode("latin-1"), RULES, {"ADDRESS": "Hörn & Söhne"}).data
        root = ElementTree.fromstring(found)
        self.assertEqual((root.get("to"), root.text), ("Hörn & Söhne", "Fähre"))

    @law(200)
    @given(VALUES, st.sampled_from([None, 2]))
    def test_any_value_means_itself_in_json(self, value: str, indent: int | None) -> None:
        document: Any = {"a": ["x ${ADDRESS} y", "${ADDRESS}"], "b": {"c": 1, "d": "${OTHER}"}}
        text = json.dumps(document, indent=indent)
        found = json.loads(
            bind("a.json", text.encode(), parse_rules('[bindings]\nADDRESS = {in="*"}'), {"ADDRESS": value}).data
        )
        self.assertEqual(found, {"a": [f"x {value} y", value], "b": {"c": 1, "d": "${OTHER}"}})

    @law(200)
    @given(VALUES, st.sampled_from(["${ADDRESS}", "'${ADDRESS}'", '"${ADDRESS}"', "x-${ADDRESS}"]))
    def test_any_value_means_itself_in_yaml(self, value: str, spelled: str) -> None:
        text = f"first: 1\n# ${{ADDRESS}} is for the tides\nto: {spelled}\nlast: [1, 2]\n"
        found = bind("a.yaml", text.encode(), RULES, {"ADDRESS": value}).data.decode()
        wanted = f"x-{value}" if spelled.startswith("x-") else value
        self.assertEqual(yaml.safe_load(found), {"first": 1, "to": wanted, "last": [1, 2]})
        self.assertIn("# ${ADDRESS} is for the tides\n", found)

    @law(200)
    @given(XML_VALUES)
    def test_any_value_means_itself_in_xml(self, value: str) -> None:
        text = '<a to="${ADDRESS}"><b>see ${ADDRESS}</b><!-- ${ADDRESS} --></a>'
        root = ElementTree.fromstring(bind("a.xml", text.encode(), RULES, {"ADDRESS": value}).data)
        self.assertEqual((root.get("to"), root.findtext("b")), (value, f"see {value}"))

    @law(100)
    @given(VALUES)
    def test_toml_either_says_the_value_or_is_refused(self, value: str) -> None:
        try:
            found = bind("a.toml", b'to = "${ADDRESS}"\n', RULES, {"ADDRESS": value}).data
        except InvalidError:
            return
        self.assertIn("to", tomllib.loads(found.decode()))

    def test_rules_are_checked(self) -> None:
        for said, why in (
            ('role = {in = "*"}', "capitals"),
            ("ROLE = {}", "in which artifacts"),
            ('ROLE = {in = "*", part = "/a:b"}', "which field"),
            ('ROLE = {in = "*", secret = "yes"}', "true or false"),
            ('ROLE = {in = "*", value = "x"}', "in which artifacts"),
        ):
            with self.subTest(said=said), self.assertRaises(InvalidError) as caught:
                parse_rules(f"[bindings]\n{said}\n")
            self.assertIn(why, caught.exception.message)


if __name__ == "__main__":
    unittest.main()
