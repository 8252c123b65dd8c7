"""Tests: features in any language, results, and one-file projects."""

from __future__ import annotations

import random
import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from tests.support.factories import compared, told
from tests.support.laws import law

FEATURE = """@booking
Feature: Booking a berth
  Skippers book before they land.

  Background:
    Given a harbour with 12 berths

  Rule: Long ships pay more
    @slow @fares
    Scenario: A long ship
      Given a ship of 30 m
      When it books a berth
      Then it pays 40.00

  Scenario Outline: Booking in time
    Given it is <hour>
    When the skipper books
    Then the answer is "<answer>"
      \"\"\"text
      Berth kept
      \"\"\"

    Examples: by day
      | hour  | answer |
      | 08:00 | yes    |
      | 21:00 | no     |
"""
GERMAN = """# language: de
Funktionalität: Liegeplatz buchen

  Grundlage:
    Angenommen ein Hafen mit 12 Plätzen

  Szenario: Ein langes Schiff
    Wenn es bucht
    Dann zahlt es 40
"""


def of(before: str, after: str) -> dict[str, Any]:
    found = compared(before.encode(), after.encode(), "berths.feature")
    assert found["read_as"] == "tests", found["note"]
    return found


class FeatureTests(unittest.TestCase):
    """Gherkin."""

    def test_layout_comments_tag_order_and_line_ends_mean_nothing(self) -> None:
        after = (
            FEATURE.replace("@slow @fares", "# why\n    @fares\n    @slow").replace("    ", "\t").replace("\n", "\r\n")
        )
        self.assertEqual(of(FEATURE, after)["findings"], [])

    def test_each_change_is_one_finding(self) -> None:
        for old, new, expected in (
            (
                "it pays 40.00",
                "it pays 42.00",
                ("changed", "/rule:Long ships pay more/scenario:A long ship/step:#3", "text"),
            ),
            (
                "| 21:00 | no     |",
                "| 21:00 | later  |",
                ("changed", "/rule:Long ships pay more/scenario:Booking in time/examples:by day/row:21:00", "answer"),
            ),
            (
                "      | 21:00 | no     |\n",
                "",
                ("removed", "/rule:Long ships pay more/scenario:Booking in time/examples:by day/row:21:00", None),
            ),
            (
                "      When it books a berth\n",
                "",
                ("removed", "/rule:Long ships pay more/scenario:A long ship/step:#2", None),
            ),
            ("@slow @fares", "@slow", ("changed", "/rule:Long ships pay more/scenario:A long ship", "tags")),
            (
                "Berth kept",
                "Berth held",
                ("changed", "/rule:Long ships pay more/scenario:Booking in time/step:#3", "doc string"),
            ),
            ("with 12 berths", "with 14 berths", ("changed", "/background:background/step:#1", "text")),
        ):
            with self.subTest(new=new):
                self.assertEqual(
                    [(a, p, f) for a, p, f, _, _ in told(of(FEATURE, FEATURE.replace(old, new)))], [expected]
                )

    def test_only_the_description_changed_is_cosmetic(self) -> None:
        found = of(FEATURE, FEATURE.replace("Skippers book before they land.", "Skippers book at sea."))
        self.assertEqual([(f["field"], f["effect"]) for f in found["findings"]], [("description", "cosmetic")])

    def test_renamed_scenario_is_told_as_renamed(self) -> None:
        found = of(FEATURE, FEATURE.replace("Booking in time", "Booking before dusk"))
        self.assertEqual(
            [(a, b, c) for a, _, _, b, c in told(found)], [("renamed", "Booking in time", "Booking before dusk")]
        )

    def test_order_of_steps_counts_and_of_scenarios_does_not(self) -> None:
        one, other = GERMAN.split("  Szenario", maxsplit=1)[0], "  Szenario" + GERMAN.split("  Szenario")[1]
        second = "\n  Szenario: Ein kurzes\n    Dann zahlt es 20\n"
        self.assertEqual(told(of(one + other + second, one + second + other)), [])
        swapped = GERMAN.replace("    Wenn es bucht\n    Dann zahlt es 40", "    Dann zahlt es 40\n    Wenn es bucht")
        self.assertEqual([a for a, *_ in told(of(GERMAN, swapped))], ["moved"])

    def test_any_language_is_read(self) -> None:
        found = of(GERMAN, GERMAN.replace("zahlt es 40", "zahlt es 42"))
        self.assertEqual(
            told(found), [("changed", "/scenario:Ein langes Schiff/step:#2", "text", "zahlt es 40", "zahlt es 42")]
        )

    def test_what_is_no_feature_is_compared_by_lines_and_says_where(self) -> None:
        found = compared(
            FEATURE.encode(), FEATURE.replace("Scenario Outline:", "Sczenario:").encode(), "berths.feature"
        )
        self.assertEqual(found["read_as"], "text")
        self.assertIn("compared as text", found["note"])

    @law(40)
    @given(st.randoms(use_true_random=False))
    def test_each_single_edit_is_exactly_its_finding(self, rng: random.Random) -> None:
        def text(scenarios: dict[str, list[str]]) -> str:
            pad = " " * rng.randint(1, 6)
            return "Feature: F\n" + "".join(
                f"\n{pad}Scenario: {n}\n" + "".join(f"{pad}{pad}Given {s}\n" for s in steps)
                for n, steps in scenarios.items()
            )

        scenarios = {
            f"case {k}": [f"step {k} {n} of {rng.randint(0, 99)}" for n in range(rng.randint(2, 6))]
            for k in range(rng.randint(2, 8))
        }
        other = {n: list(s) for n, s in scenarios.items()}
        name = rng.choice(list(other))
        place = rng.randrange(len(other[name]))
        edit = rng.choice(["add", "drop", "scenario"])
        if edit == "add":
            other[name].insert(place, "something quite different")
            expected = ("added", f"/scenario:{name}/step:#{place + 1}")
        elif edit == "drop":
            other[name].pop(place)
            expected = ("removed", f"/scenario:{name}/step:#{place + 1}")
        else:
            other["brand new"] = ["nothing like the others"]
            expected = ("added", "/scenario:brand new")
        order = list(other.items())
        rng.shuffle(order)
        self.assertEqual([(a, p) for a, p, *_ in told(of(text(scenarios), text(dict(order))))], [expected])


def results(cases: dict[str, str], **attributes: str) -> bytes:
    inner = {
        "passed": "",
        "failed": '<failure message="40 != 42">trace</failure>',
        "skipped": "<skipped/>",
        "error": '<error type="E"/>',
    }
    rows = "".join(
        f'<testcase classname="fares" name="{n}" time="{0.01 * k}">{inner[s]}</testcase>'
        for k, (n, s) in enumerate(cases.items())
    )
    given = "".join(f' {k}="{v}"' for k, v in attributes.items())
    return f'<?xml version="1.0"?><testsuites><testsuite name="unit"{given}>{rows}</testsuite></testsuites>'.encode()


class ResultTests(unittest.TestCase):
    """Result files."""

    BEFORE = {"adult": "passed", "child": "failed", "dog": "passed", "bike": "passed"}

    def effects(self, after: dict[str, str], **attributes: str) -> list[tuple[Any, ...]]:
        found = compared(results(self.BEFORE, time="1.0"), results(after, time="2.5", **attributes), "results.xml")
        self.assertEqual(found["read_as"], "tests")
        return [
            (f["action"], f["label"], f.get("field"), f["effect"])
            for f in found["findings"]
            if f["effect"] != "cosmetic"
        ]

    def test_newly_failing_breaks_and_fixed_and_skipped_alter(self) -> None:
        self.assertEqual(
            self.effects({**self.BEFORE, "dog": "failed"})[:1], [("changed", "fares.dog", "status", "breaks")]
        )
        self.assertIn(("changed", "fares.dog", "status", "breaks"), self.effects({**self.BEFORE, "dog": "error"}))
        self.assertIn(("changed", "fares.child", "status", "alters"), self.effects({**self.BEFORE, "child": "passed"}))
        self.assertEqual(
            self.effects({**self.BEFORE, "bike": "skipped"}), [("changed", "fares.bike", "status", "alters")]
        )
        self.assertEqual(self.effects({**self.BEFORE, "new": "failed"}), [("added", "fares.new", None, "breaks")])

    def test_times_counts_and_order_are_noise(self) -> None:
        self.assertEqual(
            self.effects(dict(reversed(self.BEFORE.items())), tests="99", failures="7", timestamp="2026-04-01"), []
        )

    def test_results_without_class_names_and_with_one_suite_alone(self) -> None:
        before = b'<testsuite name="u"><testcase name="a"/><testcase name="a"/><testcase name="b"/></testsuite>'
        found = compared(
            before, before.replace(b'<testcase name="b"/>', b'<testcase name="b"><failure/></testcase>'), "r.xml"
        )
        self.assertEqual([(f["label"], f["effect"]) for f in found["findings"]][:1], [("b", "breaks")])

    def test_project_in_one_file_has_suites_cases_and_steps(self) -> None:
        def project(amount: int) -> dict[str, Any]:
            return {
                "suites": [
                    {
                        "name": "fares",
                        "cases": [
                            {"name": "adult", "steps": [{"do": "open"}, {"do": "pay", "amount": amount}]},
                            {"name": "dog", "steps": [{"do": "open"}]},
                        ],
                    }
                ]
            }

        found = compared(project(40), project(42), "project.json")
        self.assertEqual(found["kind"], "tests")
        self.assertEqual(told(found), [("changed", "/suite:fares/case:adult/step:pay", "amount", 40, 42)])
