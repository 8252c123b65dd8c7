"""Spreadsheets, models and pictures in the browser."""

from __future__ import annotations

from selenium.webdriver.common.by import By

from everyshelf.demo.documents import document_pairs
from everyshelf.demo.models import model_pairs
from everyshelf.demo.workbooks import workbook_pairs
from tests.console.test_console import ConsoleCase


class BytesTests(ConsoleCase):
    """Two versions, and one."""

    def setUp(self) -> None:
        super().setUp()
        pairs = [*workbook_pairs(), *document_pairs(), *model_pairs()]
        self.put({p.path: p.before for p in pairs})
        self.shelf.make_tag("one")
        self.put({p.path: p.after for p in pairs})

    def found(self, selector: str) -> list[str]:
        return [e.text for e in self.browser.driver.find_elements(By.CSS_SELECTOR, selector)]

    def test_sheets_are_grids_with_changed_cells_in_place(self) -> None:
        self.page("/compare?from=tag:one&path=workbooks/budget.xlsx")
        self.browser.see("Race week")
        self.assertEqual(self.found("tr.r-changed td.cell"), ["2170 2480"])
        self.assertEqual([row.split()[0] for row in self.found("tr.r-added td:nth-child(2)")], ["Race"])
        self.browser.see("ƒ =B7-C7-D7*(1+VatRate)")
        self.browser.click("//button[contains(., 'Rates')]", By.XPATH)
        self.browser.see("VAT")
        self.assertEqual(self.found("td.cell"), ["0.2 0.21"])
        self.assertEqual(self.browser.axe(), [])
        self.page("/artifact?path=workbooks/budget.xlsx&ref=main")
        self.browser.see("E Left over")
        self.browser.see("ƒ =SUM(B2:B11)")
        self.assertEqual(self.browser.complaints(), [])

    def test_weights_are_drawn_and_metrics_say_what_is_better(self) -> None:
        self.page("/compare?from=tag:one&path=models/tide.onnx")
        self.browser.see("2 tensors changed")
        self.browser.see("Change of hidden.weight")
        plot = "section[aria-label='Change of hidden.weight']"
        told = [int(cell) for cell in self.browser.texts(f"{plot} td")]
        drawn = self.browser.driver.find_elements(By.CSS_SELECTOR, f"{plot} rect.MuiBarChart-element")
        self.assertEqual(len(drawn), len(told))
        self.browser.see("▲ better")
        self.assertNotIn("hidden.bias", self.browser.text())
        self.browser.press("all")
        self.browser.see("hidden.bias")
        self.assertEqual(self.browser.axe(), [])
        self.page("/artifact?path=models/forest.pkl&ref=main")
        self.browser.see("24 tensors")
        self.browser.see("trees.3.leaves")
        self.assertEqual(self.browser.complaints(), [])

    def test_pictures_lie_over_each_other_with_a_slider(self) -> None:
        self.page("/compare?from=tag:one&path=pictures/route-map.png")
        self.browser.see("1.2% of the pixels")
        images = self.browser.driver.find_elements
        script = "return [...document.querySelectorAll('.frame img')].map(i => i.naturalWidth)"
        self.browser.wait_for(lambda: self.browser.driver.execute_script(script) == [640, 640])
        slider = images(By.CSS_SELECTOR, "input[type=range]")[0]
        before = images(By.CSS_SELECTOR, ".frame img")[1].get_attribute("style")
        slider.send_keys("\ue014")  # the right arrow
        self.browser.wait_for(lambda: images(By.CSS_SELECTOR, ".frame img")[1].get_attribute("style") != before)
        self.browser.press("Difference")
        self.browser.wait_for(lambda: images(By.CSS_SELECTOR, ".frame .differs"))
        self.assertEqual(self.browser.axe(), [])
        self.browser.press("Side by side")
        self.browser.see("before, tag:one")
        self.page("/artifact?path=pictures/route-map.png&ref=main")
        alone = "return document.querySelector('img.alone')?.naturalWidth"
        self.browser.wait_for(lambda: self.browser.driver.execute_script(alone) == 640)
        self.assertEqual(self.browser.complaints(), [])
