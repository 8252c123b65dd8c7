"""Tables in the browser: compared in place, narrowed to a column, looked at alone."""

from __future__ import annotations

from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from everyshelf.demo.ledgers import database_pair
from everyshelf.demo.tables import mend_sailings, sailings
from tests.console.test_console import ConsoleCase


class TableTests(ConsoleCase):
    """Two versions, and one."""

    def test_rows_columns_and_shift_are_seen_together(self) -> None:
        self.put({"sailings.csv": sailings(34)})
        self.shelf.make_tag("one")
        lines = mend_sailings(sailings(40), 2).decode().splitlines()
        after = [f"{line},{'tide' if n == 0 else n % 5}" for n, line in enumerate(lines)]
        self.put({"sailings.csv": "\n".join(after).encode()})
        self.page("/compare?from=tag:one&path=sailings.csv")
        self.browser.see("1 column added")
        self.browser.see("all new")
        find = self.browser.driver.find_elements
        self.browser.wait_for(lambda: find(By.CSS_SELECTOR, "tr.r-changed"))
        bars = find(By.CSS_SELECTOR, "svg[aria-label*='168 added']")
        self.assertEqual(len(bars), 1)
        cells = find(By.CSS_SELECTOR, "td.cell")
        self.assertTrue(
            all(c.text.split() == ["late", "sailed"] for c in cells if c.text.strip()), [c.text for c in cells]
        )
        self.assertIn("same rows", self.browser.text())
        self.browser.press("show more rows")
        self.browser.press("added")
        self.browser.wait_for(lambda: not find(By.CSS_SELECTOR, "tr.r-changed"))
        self.browser.see("100 of 168 rows that differ, added")
        self.browser.press("all")
        status = [b for b in find(By.CSS_SELECTOR, "tr.counts button") if "cells" in b.text]
        status[0].click()
        self.browser.wait_for(lambda: not find(By.CSS_SELECTOR, "tr.r-added"))
        self.browser.see("over its limit")
        self.assertEqual(self.browser.axe(), [])
        self.assertEqual(self.browser.complaints(), [])

    def test_database_is_compared_table_by_table(self) -> None:
        pair = database_pair()
        self.put({"counter.sqlite": pair.before})
        self.shelf.make_tag("one")
        self.put({"counter.sqlite": pair.after})
        self.page("/compare?from=tag:one&path=counter.sqlite")
        self.browser.see("2 tables in both")
        self.browser.see("70041")
        clerks = self.browser.find("//button[contains(., 'clerks')]", By.XPATH)
        clerks.click()
        self.browser.see("Maren")
        self.browser.see("5 of 5 rows that differ")
        self.assertEqual(self.browser.axe(), [])
        self.page("/artifact?path=counter.sqlite&ref=main")
        self.browser.see("primary key")
        self.browser.wait_for(lambda: self.browser.driver.find_elements(By.CSS_SELECTOR, ".gridhead svg"))

    def test_a_table_alone_shows_its_columns_values(self) -> None:
        self.put({"sailings.csv": sailings(34)})
        self.page("/artifact?path=sailings.csv&ref=main")
        self.browser.see("952 rows")
        self.browser.wait_for(lambda: len(self.browser.driver.find_elements(By.CSS_SELECTOR, ".gridhead svg")) == 9)
        self.assertEqual(self.browser.axe(), [])

    def test_a_page_of_a_sorted_table_is_read_and_shared_by_its_address(self) -> None:
        rows = "".join(f"Z{n % 10:02},{n},{(n * 7919) % 100_003}\n" for n in range(95_000))
        self.put({"fares.csv": f"zone,ticket,paid\n{rows}".encode()})
        self.page("/artifact?path=fares.csv")
        self.browser.see("95\u202f000 rows, 3 columns")
        head = self.browser.find("[role=columnheader][data-field=paid]")
        head.click()
        self.browser.wait_for(lambda: "sort=paid" in self.browser.driver.current_url)
        box = self.browser.field("Go to row")
        box.send_keys("89901", Keys.ENTER)
        self.browser.see("89,901–90,000 of 95,000")
        order = sorted(((n * 7919) % 100_003, n) for n in range(95_000))
        cell = "[role=gridcell][data-field=ticket]"
        self.browser.wait_for(lambda: self.browser.find(cell).text == str(order[89_900][1]))
        self.browser.open(self.browser.driver.current_url)
        self.browser.see("89,901–90,000 of 95,000")
        self.browser.type_into("Value of the condition", "Z03")
        self.browser.press("Only such rows")
        self.browser.see("9\u202f500 rows of 95\u202f000, 3 columns")
        self.browser.wait_for(lambda: self.browser.find("[role=gridcell][data-field=zone]").text == "Z03")
        self.assertEqual(self.browser.axe(), [])
        self.browser.press("remove the condition zone is Z03")
        self.browser.see("95\u202f000 rows, 3 columns")
        self.page("/artifact?path=fares.csv&where=paid+over+ten")
        self.browser.see("holds numbers, and 'ten' is none")
        self.browser.press("Show all rows in the order of the file")
        self.browser.see("1–100 of 95,000")
        self.assertEqual(self.browser.complaints(), [])
