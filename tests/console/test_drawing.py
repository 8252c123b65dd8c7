"""Drawings, unfolded parts and saved reports in the browser."""

from __future__ import annotations

import json

from selenium.webdriver.common.by import By

from everyshelf.demo import flows
from tests.console.test_console import ConsoleCase
from tests.service.test_seen_and_unfolded import APP


class DrawingTests(ConsoleCase):
    """Pipelines and workflows."""

    def node(self, label: str) -> str:
        return f"[aria-label*='{label}'][role=button]"

    def test_both_versions_in_one_drawing_lead_to_findings_and_back(self) -> None:
        self.put({"flow.bpmn": flows.disruption()})
        self.shelf.make_tag("one")
        self.put({"flow.bpmn": flows.disruption(tide_check=True, approver="harbour master")})
        self.page("/compare?from=tag:one&path=flow.bpmn")
        self.browser.see("Both versions in one graph")
        find = self.browser.find
        find(self.node("Approve notice")).click()
        self.browser.see("assignment")
        current = find(".find[aria-current=true]").text
        self.assertIn("harbour master", current)
        find(self.node("Draft notice")).click()
        self.browser.see("Nothing changed in")
        self.browser.press("Before")
        self.assertEqual(self.browser.driver.find_elements(By.CSS_SELECTOR, self.node("Check tide window")), [])
        self.browser.press("Both")
        self.browser.press("Redraw layout")
        self.browser.see("Show it as drawn in the file")
        find(self.node("Check tide window"))
        list_ = find("[aria-label=Connections]").get_attribute("textContent")
        self.assertIn("Sailing at risk leads to Over 30 min late?, before", list_)
        self.assertEqual(self.browser.axe(), [])
        self.assertEqual(self.browser.complaints(), [])

    def test_artifact_page_shows_graph_outline_and_part_together(self) -> None:
        self.put({"nightly.cwl": flows.nightly_cwl()})
        self.page("/artifact?path=nightly.cwl&ref=main")
        self.browser.see("Laid out by Every Shelf")
        find = self.browser.find
        self.browser.wait_for(lambda: self.browser.driver.find_elements(By.CSS_SELECTOR, self.node("join_timetable")))
        find(self.node("join_timetable")).click()
        self.assertIn("join.cwl", find("section[aria-label=Part]").text)
        self.browser.press("price_by_zone", within="section[aria-label=Part]")
        self.assertIn("price.cwl", find("section[aria-label=Part]").text)
        self.assertEqual(self.browser.axe(), [])

    def test_drawing_is_walked_by_keys(self) -> None:
        self.put({"flow.bpmn": flows.refund()})
        self.page("/artifact?path=flow.bpmn&ref=main")
        self.browser.wait_for(lambda: self.browser.driver.find_elements(By.CSS_SELECTOR, self.node("Over 50")))
        driver = self.browser.driver
        driver.execute_script("document.querySelector('.node[tabindex=\"0\"]').focus()")
        from selenium.webdriver.common.keys import Keys

        start = driver.switch_to.active_element.get_attribute("aria-label")
        driver.switch_to.active_element.send_keys(Keys.ARROW_RIGHT)
        driver.switch_to.active_element.send_keys(Keys.ENTER)
        reached = driver.switch_to.active_element.get_attribute("aria-label")
        self.assertNotEqual(start, reached)
        self.assertEqual(driver.switch_to.active_element.get_attribute("aria-pressed"), "true")


class PartsTests(ConsoleCase):
    """Unfolded artifacts and reports."""

    def test_parts_are_read_in_place(self) -> None:
        self.put({"gangway.json": APP})
        self.page("/artifact?path=gangway.json&ref=main")
        self.browser.press("Unfolded")
        self.browser.see("screens/Scan.json")
        self.browser.click("//button[contains(., 'screens/Scan.json')]", By.XPATH)
        self.browser.see('"text": "Ticket"')
        self.browser.see("Fold edited parts")
        self.assertEqual(self.browser.axe(), [])

    def test_report_is_offered_in_three_forms(self) -> None:
        self.put({"a.json": json.dumps({"limit": 1}).encode()})
        self.shelf.make_tag("one")
        self.put({"a.json": json.dumps({"limit": 2}).encode()})
        self.page("/compare?from=tag:one")
        self.browser.press("Save report")
        links = self.browser.driver.find_elements(By.CSS_SELECTOR, "[role=menuitem]")
        self.assertEqual([link.text.rpartition("(")[2] for link in links], [".html)", ".md)", ".json)"])
        # What is saved is looked at instead of being saved.
        self.browser.driver.execute_script(
            "HTMLAnchorElement.prototype.click = function () { window.savedAs = this.download; };"
            "URL.createObjectURL = (blob) => { void blob.text().then((text) => { window.saved = text; }); return '#'; };"
        )
        links[0].click()
        page = self.browser.wait_for(lambda: self.browser.driver.execute_script("return window.saved"))
        name = self.browser.driver.execute_script("return window.savedAs")
        self.assertEqual(name, f"{self.shelf.info().name} from tag:one to main.html")
        self.assertIn("<h2>a.json</h2>", page)
