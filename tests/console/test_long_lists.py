"""Lists that are longer than a page, in the console."""

from __future__ import annotations

from tests.console.test_console import ConsoleCase
from tests.support.long_lists import many_of_each


class LongListsTests(ConsoleCase):
    """103 proposals, and as many experiments, branches, tags and deployments to one environment."""

    def names(self, label: str) -> list[str]:
        return self.browser.texts(f"section[aria-label={label}] tbody td:first-child a.mono")

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
        self.experiments()
        self.branches_and_tags()

    def experiments(self) -> None:
        def shown() -> int:
            return len(self.browser.texts("section[aria-label=Experiments] tbody tr"))

        self.page("/experiments")
        self.browser.see("103 experiments, 103 open.")
        self.assertEqual(shown(), 100)
        self.browser.press("Show older ones")
        self.browser.wait_for(lambda: shown() == 103)
        self.browser.type_into("Narrow the list", "night-10")
        self.browser.see("5 experiments, 5 open.")
        self.browser.press("abandoned")
        self.browser.see("0 abandoned experiments.")
        self.browser.see("No experiment has these words")

    def branches_and_tags(self) -> None:
        self.page("/branches")
        self.browser.see("104 branches and 103 tags.")
        wide = self.browser.driver.execute_script("return document.documentElement.scrollWidth - window.innerWidth")
        self.assertLessEqual(wide, 0, "the page is wider than the window")
        self.assertIn("and 92 more", self.browser.text())
        self.assertEqual(self.names("Branches"), ["main", *(f"night/{number:03}" for number in range(1, 100))])
        self.browser.press("Show more branches")
        self.browser.wait_for(lambda: len(self.names("Branches")) == 104)
        self.assertEqual(len(self.names("Tags")), 100)
        self.browser.press("Show older tags")
        self.browser.wait_for(lambda: self.names("Tags")[-1] == "night-1")
        for label in ("Show more branches", "Show older tags"):
            self.assertNotIn(label, self.browser.text())
        self.refs_and_choices()

    def refs_and_choices(self) -> None:
        """What is on no first page is found all the same."""
        for words, ref in (("night 103", "night/103"), ("tag:night-3", "tag:night-3")):
            self.page()
            self.browser.press("State shown: main ▾")
            self.browser.type_into("Narrow the refs", words)
            self.browser.wait_for(
                lambda ref=ref: any(ref in option for option in self.browser.texts("[role=option] b"))
            )
        self.browser.driver.execute_script(
            "[...document.querySelectorAll('[role=option]')].find(o => o.querySelector('b').innerText === 'tag:night-3').click()"
        )
        self.browser.wait_for(lambda: "ref=tag%3Anight-3" in self.browser.driver.current_url)
        self.page("/environments")
        self.browser.press("List older tags")
        self.browser.wait_for(lambda: "tag:night-1" in self.browser.texts("#tag-to-put")[0].splitlines())
        self.browser.choose("Tag for test", "tag:night-1")
        self.page("/proposals?propose=night%2F103")
        self.browser.see("night/103, 0 commits ahead")
        self.browser.choose("Merge into", "night/102")
