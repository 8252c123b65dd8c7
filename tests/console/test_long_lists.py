"""Lists that are longer than a page, in the console."""

from __future__ import annotations

from tests.console.test_console import ConsoleCase
from tests.support.long_lists import many_of_each


class LongListsTests(ConsoleCase):
    """103 proposals, and as many deployments to one environment."""

    def numbers(self) -> list[int]:
        cells = self.browser.driver.find_elements("css selector", "section[aria-label=Proposals] tbody td:first-child")
        return [int(cell.text) for cell in cells]

    def test_older_ones_are_shown_when_asked_for_and_told_of_otherwise(self) -> None:
        self.put({"a.txt": b"1"})
        self.service.run_python(many_of_each(self.shelf.key, 103))
        self.page("/proposals?state=all")
        self.browser.see("103 proposals.")
        self.assertEqual(self.numbers(), list(range(103, 3, -1)))
        self.browser.press("Show older ones")
        self.browser.wait_for(lambda: len(self.numbers()) > 100)
        self.assertEqual(self.numbers(), list(range(103, 0, -1)))
        self.assertNotIn("Show older ones", self.browser.text())
        self.page("/environments")
        self.browser.see("without 3 older ones")
        marks = [one.text for one in self.browser.driver.find_elements("css selector", "svg.tl text")]
        self.assertIn("now", marks)
        self.assertTrue(any(":" in mark for mark in marks), f"no mark of so short a time tells the hour: {marks}")
