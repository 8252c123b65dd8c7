"""Saved comparisons: everything found is in them, and nothing from a file is more than text."""

from __future__ import annotations

import json
import unittest
from datetime import UTC, datetime

import markdown_it
from hypothesis import given
from hypothesis import strategies as st
from lxml import html

from everyshelf.core.answers.findings import Use
from everyshelf.core.compare.artifact import ArtifactSide, compare_artifacts
from everyshelf.core.report.document import as_artifact, report_of_artifact, written
from everyshelf.core.report.lines import changed_lines, words_apart
from everyshelf.core.report.model import Report
from everyshelf.demo import flows, papers
from tests.support.laws import law

MADE = datetime(2026, 11, 23, 12, 0, tzinfo=UTC)
LINES = st.lists(st.text("ab <&", max_size=8), max_size=12).map("\n".join)


def report(before: bytes, after: bytes, name: str) -> Report:
    found = compare_artifacts(ArtifactSide(name, before), ArtifactSide(name, after)).answer()
    return report_of_artifact(as_artifact(found, f"folder/{name}"), title=name, made=MADE)


class ReportTests(unittest.TestCase):
    """The three forms."""

    def test_every_finding_is_in_every_form(self) -> None:
        told = report(flows.disruption(), flows.disruption(tide_check=True, limit=20), "d.bpmn")
        page, text = written(told, "html"), written(told, "md")
        for words in ("Check tide window", "Over 20 min late?", "leads to", "none break users", "1 cosmetic finding"):
            self.assertIn(words, " ".join(html.fromstring(page).text_content().split()))
            self.assertIn(words, text)
        self.assertEqual(
            len(json.loads(written(told, "json"))["artifacts"][0]["findings"]), len(told.artifacts[0].findings)
        )

    def test_the_difference_of_pictures_is_in_the_page_and_the_page_lets_it_be_shown(self) -> None:
        told = report(papers.picture(), papers.picture(route=True), "map.png")
        page = html.fromstring(written(told, "html"))
        [shown] = page.xpath("//img/@src")
        self.assertTrue(shown.startswith("data:image/png;base64,"))
        [policy] = page.xpath("//meta[@http-equiv='Content-Security-Policy']/@content")
        self.assertIn("img-src data:", policy)

    def test_the_page_needs_nothing_else(self) -> None:
        page = html.fromstring(written(report(flows.disruption(), flows.disruption(shops=True), "d.bpmn"), "html"))
        self.assertEqual(page.xpath("//script | //link | //img | //iframe"), [])
        self.assertEqual([v for v in page.xpath("//@href | //@src") if not v.startswith("#")], [])

    def test_long_texts_are_told_line_by_line(self) -> None:
        before, after = (
            b"def g():\n    a = 1\n    b = 2\n    return a\n",
            b"def g():\n    a = 1\n    b = 3\n    return a\n",
        )
        page = html.fromstring(written(report(before, after, "s.py"), "html"))
        self.assertEqual([e.text_content() for e in page.xpath("//pre/span[@class='old']")], ["b = 2"])
        self.assertEqual([e.text for e in page.xpath("//pre//ins")], ["3"])
        self.assertIn("- b = 2\n+ b = 3", written(report(before, after, "s.py"), "md"))

    def test_users_of_what_breaks_are_named(self) -> None:
        found = report(b'{"a": 1, "b": 2}', b'{"a": 1}', "s.json")
        finding = found.artifacts[0].findings[0]
        finding.effect = "breaks"
        finding.used_by = [Use(artifact="x.cwl", label="load", place="/step:load", exact=True)]
        self.assertIn("x.cwl: load", written(found, "html"))
        self.assertIn("x.cwl: load", written(found, "md"))

    @law(100)
    @given(st.text(min_size=1, max_size=60), st.text(max_size=60))
    def test_nothing_from_a_file_is_more_than_text(self, old: str, new: str) -> None:
        evil = "<script>alert(1)</script>|`[x](javascript:1)\n# h"
        told = report(b'{"v": 1}', b'{"v": 2}', "s.json")
        told.title = evil
        artifact = told.artifacts[0]
        artifact.path, artifact.note = f"a/{evil}", evil
        finding = artifact.findings[0]
        finding.part, finding.label, finding.effect = f"/x:{evil}", evil, "breaks"
        finding.before, finding.after = old + evil, new
        page = html.fromstring(written(told, "html"))
        self.assertEqual(page.xpath("//script | //@onerror | //a"), [])
        rendered = markdown_it.MarkdownIt("commonmark").enable("table").render(written(told, "md"))
        self.assertNotIn("<script", rendered)
        self.assertNotIn("<a ", rendered)


class LineTests(unittest.TestCase):
    """Two texts as one list of lines."""

    @law(100)
    @given(LINES, LINES)
    def test_both_texts_can_be_read_off(self, before: str, after: str) -> None:
        lines = changed_lines(before, after)
        for kind, text in (("old", before), ("new", after)):
            shown = sum(line.kind in (kind, "same") for line in lines)
            hidden = sum(int(line.text.split()[0]) for line in lines if line.kind == "gap")
            self.assertEqual(shown + hidden, len(text.splitlines()))

    @law(100)
    @given(st.text("ab c.", max_size=30), st.text("ab c.", max_size=30))
    def test_marked_words_leave_equal_rests(self, before: str, after: str) -> None:
        old, new = words_apart(before, after)
        if old or new:
            self.assertEqual("".join(t for t, _ in old), before)
            self.assertEqual("".join(t for t, _ in new), after)
            self.assertEqual("".join(t for t, d in old if not d), "".join(t for t, d in new if not d))


if __name__ == "__main__":
    unittest.main()
