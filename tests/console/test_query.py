"""The query page: run, look at rows and bars, save, share the address."""

from __future__ import annotations

from urllib.parse import quote

from selenium.webdriver.common.keys import Keys

from tests.console.test_console import ConsoleCase

FARES = b"zone,class,fare\nZ01,adult,4.50\nZ01,child,2.25\nZ02,adult,6.00\n"


class QueryTests(ConsoleCase):
    def setUp(self) -> None:
        super().setUp()
        self.put({"data/fares.csv": FARES}, "Fares")

    def write(self, text: str) -> None:
        """Type into the editor what it shall hold, as a person does who closes what it offers."""
        self.browser.click(".editor .cm-content")
        self.browser.press_key(Keys.CONTROL + "a")
        self.browser.press_key(text + Keys.ESCAPE)

    def test_run_look_and_save(self) -> None:
        self.page("/query")
        self.browser.press("the first rows of data/fares.csv")
        self.browser.press("Run")
        self.browser.see("3 rows")
        self.browser.see("6.00")
        self.write("SELECT zone, sum(fare) AS total FROM 'data/fares.csv' GROUP BY zone ORDER BY zone")
        self.browser.press_key(Keys.CONTROL + Keys.ENTER)
        self.browser.see("2 rows")
        self.assertIn("6.75", self.browser.texts("[role=gridcell]"))
        self.browser.press("Bars")
        self.browser.wait_for(lambda: len(self.browser.driver.find_elements("css selector", "svg rect")) >= 2)
        self.assertEqual(self.browser.axe(), [])
        self.browser.press("Save the query")
        self.browser.type_into("Name", "Total by zone")
        self.browser.press("Save")
        self.browser.see("Saved in your draft as queries/Total-by-zone.sql.")
        saved = self.shelf.read("queries/Total-by-zone.sql", "draft:main")
        self.assertIn(b"GROUP BY zone", saved)
        self.shelf.commit_draft("main", "Saved")
        self.page("/artifact?path=queries%2FTotal-by-zone.sql")
        self.browser.press("Run as a query")
        self.browser.see("GROUP BY zone")
        self.browser.press("Run")
        self.browser.see("2 rows")

    def test_an_address_runs_it_and_a_problem_says_what_to_do(self) -> None:
        asked = quote("SELECT count(*) AS n FROM 'data/fares.csv@main'")
        self.page(f"/query?sql={asked}")
        self.browser.see("1 row")
        self.browser.see("data/fares.csv at main")
        self.page("/query?sql=" + quote("SELECT none FROM 'data/fares.csv'"))
        self.browser.see("Change it and run it again.")
        self.page("/query?sql=" + quote("DROP TABLE x"))
        self.browser.see("Write one SELECT over artifacts in quotes")
        self.browser.driver.back()
        self.browser.see("Change it and run it again.")
        self.assertIn("SELECT none", self.browser.find(".editor .cm-content").text)
