"""The history page: looking among the commits."""

from __future__ import annotations

from selenium.webdriver.support.ui import Select

from tests.console.test_together import TwoBrowsersCase


class HistoryPageTests(TwoBrowsersCase):
    """What is sought is in the address; a page that follows goes on where the first ended."""

    def summaries(self) -> list[str]:
        rows = self.browser.driver.find_elements("css selector", "section[aria-label=Commits] tbody tr b")
        return [row.text for row in rows]

    def test_looked_for_and_gone_back(self) -> None:
        self.put({"fares.csv": b"zone,fare\nZ1,4\n"}, "First fares")
        self.put({"notes.md": b"# Notes\n"}, "Notes on the tide")
        for number in range(101):
            self.put({"count.toml": b"n = %d\n" % number}, f"Count {number}")
        page = f"{self.service.address}/s/{self.shelf.key}/history"
        self.browser.open(page)
        self.browser.see("103 commits in the line of main, newest first.")
        self.assertEqual(len(self.summaries()), 100)
        self.browser.press("Show older ones")
        self.browser.see("First fares")
        self.assertEqual(len(self.summaries()), 103)
        self.browser.field("Words").send_keys("tide\n")
        self.browser.see("1 commit in the line of main matches, newest first.")
        self.assertEqual(self.summaries(), ["Notes on the tide"])
        Select(self.browser.field("Kind")).select_by_visible_text("dataset")
        self.browser.see("No commit of this line matches all of that")
        self.assertEqual(self.browser.axe(), [])
        self.browser.driver.back()
        self.browser.see("1 commit in the line of main matches")
        self.assertEqual(Select(self.browser.field("Kind")).first_selected_option.text, "any")
        self.browser.press("Show all")
        self.browser.see("103 commits in the line of main, newest first.")
        self.browser.open(f"{self.service.address}/s/{self.shelf.key}/artifact?path=count.toml")
        self.browser.press("All 101")
        self.browser.press("Show older ones")
        self.browser.see("Count 0")
        versions = self.browser.driver.find_elements("css selector", "section[aria-label=History] tbody tr")
        self.assertEqual(len(versions), 101)
        self.browser.open(f"{page}?path=fares.csv")
        self.browser.see("1 commit in the line of main matches")
        self.assertEqual(self.summaries(), ["First fares"])
        self.browser.open(f"{self.service.address}/s/{self.shelf.key}?ref=at:2001-01-01")
        self.browser.see("no artifacts at this moment")
        self.browser.open(f"{self.service.address}/s/{self.shelf.key}")
        link = self.browser.button("Download as zip").get_attribute("href")
        self.assertEqual(link, f"{self.service.address}/api/v1/shelves/{self.shelf.key}/zip?ref=main")
