"""Words that are looked for, and the places they are looked for in."""

from __future__ import annotations

import json
import sqlite3
import unittest

from everyshelf.core.finding.places import places_of
from everyshelf.core.finding.words import wanted, words_in
from everyshelf.core.kinds.rules import parse_rules
from everyshelf.core.tables.given import Given

_RULES = parse_rules("")


def _texts(name: str, data: bytes) -> list[tuple[str, str]]:
    return [(place.path, place.text) for place in places_of(Given(name, data), _RULES)]


class WordsTests(unittest.TestCase):
    def test_what_parts_words(self) -> None:
        self.assertEqual(
            [w for w, _, _ in words_in("tide_window-2, Low water!")], ["tide", "window", "2", "low", "water"]
        )
        self.assertEqual([w for w, _, _ in words_in("tideWindow")], ["tidewindow", "tide", "window"])
        self.assertEqual([w for w, _, _ in words_in("Fenêtre ÅNGSTRÖM straße")], ["fenetre", "angstrom", "strasse"])
        self.assertEqual(words_in("  "), [])

    def test_terms_and_phrases(self) -> None:
        found = wanted('tide "low water" "" ! wind')
        self.assertEqual(
            [(t.words, t.exact) for t in found.terms],
            [(("tide",), False), (("low", "water"), True), (("wind",), False)],
        )
        self.assertEqual(wanted("tide_window").terms[0].words, ("tide", "window"))
        self.assertEqual(wanted("*** ()").terms, ())
        self.assertEqual(len(wanted(" ".join(f"w{n}" for n in range(100))).terms), 20)

    def test_nothing_people_write_is_an_operator(self) -> None:
        database = sqlite3.connect(":memory:")
        database.execute("CREATE VIRTUAL TABLE t USING fts5(body, tokenize='unicode61 remove_diacritics 2')")
        database.execute("INSERT INTO t VALUES ('the tide window of brae near and or not 2')")
        for text in (
            "tide OR nothing",
            "tide AND",
            "NOT tide",
            "NEAR(tide window)",
            "body:tide",
            "tide*",
            'a"b',
            "^tide",
            "- tide",
            "{tide}",
        ):
            expression = wanted(text).expression
            rows = database.execute("SELECT count(*) FROM t WHERE t MATCH ?", [expression]).fetchone()
            held = wanted(text).held("the tide window of brae near and or not 2") == len(wanted(text).terms)
            self.assertEqual(bool(rows[0]), held, (text, expression))

    def test_marks_are_where_the_words_stand(self) -> None:
        text = "Wait for the TideWindow, then check tide-windows of Vik"
        marks = [text[a:b] for a, b in wanted("tide window").marks(text)]
        self.assertEqual(marks, ["Tide", "TideWindow", "Window", "tide", "windows"])
        self.assertEqual([text[a:b] for a, b in wanted('"tide window"').marks(text)], ["Tide", "Window"])
        self.assertEqual(wanted("quay").marks(text), [])
        self.assertEqual(wanted("tide quay").held(text), 1)


class PlacesTests(unittest.TestCase):
    def test_of_settings_and_what_is_nested(self) -> None:
        tree = {"name": "berths", "harbours": [{"id": "vik", "depth": 4, "notes": "first line\nsecond line\n"}]}
        found = _texts("berths.json", json.dumps(tree).encode())
        self.assertIn(("/", "name: berths"), found)
        self.assertIn(("/harbour:vik", "depth: 4"), found)
        self.assertIn(("/harbour:vik", "second line"), found)

    def test_of_tables(self) -> None:
        rows = "".join(f"{n},{'open' if n % 3 else 'closed'}\n" for n in range(30))
        found = _texts("t.csv", f"number,state\n{rows}".encode())
        self.assertEqual([text for path, text in found if path == "/column:state"], ["state", "open", "closed"])
        self.assertNotIn("7", [text for _, text in found], "numbers are no words of a table")

    def test_of_what_is_large_long_or_broken(self) -> None:
        found = places_of(Given("log.txt", b"word\n" * 50_000), _RULES)
        self.assertEqual(len(found), 20_000)
        [place] = places_of(Given("long.txt", b"x" * 100_000), _RULES)
        self.assertLess(len(place.text), 500)
        self.assertEqual(places_of(Given("b.bin", b"\0\1\2"), _RULES), [])
        self.assertEqual(places_of(Given("e.json", b""), _RULES), [])
        self.assertEqual(_texts("broken.json", b'{"a": [1,'), [("/line:1", '{"a": [1,')])
